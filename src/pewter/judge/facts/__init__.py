"""What is worked out once for a case: no opinion, and no rule is imported here."""
