"""Dates, times, zones, durations, numbers and texts: reading and writing them. Pure functions."""
