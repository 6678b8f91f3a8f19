"""DNS as facts: zones and their servers, aliases, CAA, HTTPS records, when a change has spread; no input or output."""
