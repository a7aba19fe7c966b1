"""Candidate readings: all ways in which a text may ask for something, made of its pieces and the agenda."""
