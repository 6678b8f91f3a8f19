"""Mends: lines for each kind of server and how they are put together; proven on the real servers (``make mends``)."""
