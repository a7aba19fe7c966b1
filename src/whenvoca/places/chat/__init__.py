"""Chats: XMPP, and the stand-in that ships: a folder with rooms and people as files."""
