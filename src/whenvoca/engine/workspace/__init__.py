"""The workspace as a folder: its settings, its workflows checked, its ledger opened, its locks."""
