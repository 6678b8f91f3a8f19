"""HTTP semantics: URLs, redirects, HSTS and cookies."""
