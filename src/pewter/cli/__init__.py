"""The command line: options, progress and exit statuses; no decisions of the domain."""
