"""What is worked out once for a case: no opinion, no outcome, no level."""
