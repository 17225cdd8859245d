"""One module a way to fail; each registers itself."""
