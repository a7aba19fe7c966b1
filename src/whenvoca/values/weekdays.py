"""The days of the week, Monday first: their names, and their codes in rules of repetition (RFC 5545 3.3.10)."""

NAMES = ("monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday")
CODES = ("MO", "TU", "WE", "TH", "FR", "SA", "SU")
WORKDAYS = ",".join(CODES[:5])
