"""Runs: occurrences worked through in groups, journalled, saved, and held by the brake."""
