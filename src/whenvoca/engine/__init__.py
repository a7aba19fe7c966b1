"""Occurrences, runs, the stage and the ledger: how a checked workflow is worked through and never twice."""
