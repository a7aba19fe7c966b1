"""Figures, tables and pictures of calendars."""
