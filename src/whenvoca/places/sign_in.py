"""How an account is signed in to: by user and password, or by a consent that was given once (OAuth 2.0)."""

from __future__ import annotations

from typing import Any

from whenvoca.places.place_kind import PlaceContext
from whenvoca.places.secrets import Secret
from whenvoca.places.settings import PlaceSettings


class PasswordSignIn:
    """By user and password."""

    def __init__(self, user: str, password: Secret) -> None:
        self.user, self._password = user, password

    def into_mailbox(self, client: Any) -> None:
        """Logs a client of IMAP in. Raises what the library raises, and PlaceTrouble."""
        client.login(self.user, self._password.reveal())

    def into_outbox(self, server: Any) -> None:
        """Logs a client of SMTP in."""
        server.login(self.user, self._password.reveal())


def sign_in_of(settings: PlaceSettings, context: PlaceContext) -> PasswordSignIn:
    """That of a place, by its settings. Raises SettingsFault."""
    user = settings.text("user")
    return PasswordSignIn(user, Secret(settings, "password", user))
