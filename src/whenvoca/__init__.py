"""Whenvoca: workflows between spreadsheets and calendars, in sentences, checked before they run."""

__version__ = "0.1.0"
