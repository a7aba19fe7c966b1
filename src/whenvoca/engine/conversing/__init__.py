"""Requests in plain English, decided with what was said before."""
