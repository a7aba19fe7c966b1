"""Forms: what people fill in on a page."""
