"""The record of what was observed, run and written, and SQLite as its store."""
