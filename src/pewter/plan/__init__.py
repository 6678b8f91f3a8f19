"""What to look at and by which terms: from options as typed, the site file and the reviewer's own files."""
