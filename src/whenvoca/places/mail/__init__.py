"""Emails going out: by SMTP, or into a folder as .eml files."""
