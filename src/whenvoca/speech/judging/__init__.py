"""The trained judges: which candidate is meant, and how surely."""
