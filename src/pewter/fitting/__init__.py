"""Mends fitted to a server's own configuration: read, never written; what comes out is a unified diff."""
