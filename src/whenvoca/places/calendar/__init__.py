"""Calendars: a folder with one .ics an event, or one .ics file."""
