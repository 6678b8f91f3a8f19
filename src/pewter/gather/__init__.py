"""The only part with sockets: resolving, hellos, fetches, and the look that runs them side by side."""
