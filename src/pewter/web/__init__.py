"""HTTP semantics: URLs, redirects, HSTS, cookies, pages and what browsers make of them."""
