"""How an account is signed in to: by user and password, or by a consent that was given once (RFC 7628)."""

from __future__ import annotations

from typing import Any, Protocol

from whenvoca.places.place_kind import PlaceContext
from whenvoca.places.secrets import Secret
from whenvoca.places.settings import PlaceSettings


class Credential(Protocol):
    """What a user proves to be who they are with. ``is_token``: it is a token, not a password."""

    is_token: bool

    def reveal(self) -> str:
        """The text itself. Raises PlaceTrouble where it is not there."""


def credential_of(settings: PlaceSettings, context: PlaceContext, user: str) -> Credential:
    """That of a place, by its settings. Raises SettingsFault."""
    if settings.has("password") and not settings.is_text("password") and "consent" in settings.table("password"):
        from whenvoca.places.consents import ConsentSecret, read_grantor

        grantor = read_grantor(settings, context.workspace)
        return ConsentSecret(settings.name, grantor, user, context.workspace.state_folder, context.clock)
    return Secret(settings, "password", user)


def log_into_mailbox(client: Any, user: str, credential: Credential) -> None:
    """Logs a client of IMAP in. Raises what the library raises, and PlaceTrouble."""
    if not credential.is_token:
        client.login(user, credential.reveal())
    elif client.has_capability("AUTH=OAUTHBEARER"):
        client.oauthbearer_login(user, credential.reveal())
    else:
        client.oauth2_login(user, credential.reveal())


def log_into_outbox(server: Any, user: str, credential: Credential) -> None:
    """Logs a client of SMTP in. Raises what the library raises, and PlaceTrouble."""
    if not credential.is_token:
        server.login(user, credential.reveal())
        return
    token = credential.reveal()
    offered = str(server.esmtp_features.get("auth", "")).upper().split()
    if "OAUTHBEARER" in offered:
        server.auth("OAUTHBEARER", lambda challenge=None: f"n,a={user},\x01auth=Bearer {token}\x01\x01")
    else:
        server.auth("XOAUTH2", lambda challenge=None: f"user={user}\x01auth=Bearer {token}\x01\x01")
