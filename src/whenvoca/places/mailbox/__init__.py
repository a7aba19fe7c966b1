"""Mailboxes: emails that came in, from a folder, a file or a server."""
