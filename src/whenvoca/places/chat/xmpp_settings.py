"""What a connection to an XMPP server is given, and the messages that it brings."""

from __future__ import annotations

from datetime import datetime

from msgspec import Struct

from whenvoca.places.secrets import Secret


class Arrived(Struct, frozen=True):
    """A message as it came in: its sender's bare address (empty where the room hides it), and the room's."""

    key: str
    sender: str
    room: str
    text: str
    sent: datetime | None  # None: just now
    sound: str = ""
    number: str = ""  # given by the sender's program
    corrects: str = ""


class XmppSettings(Struct, frozen=True, kw_only=True):
    """The server, and who we are there. ``tls``: starttls, implicit, or none (only on a machine of one's own)."""

    host: str
    port: int
    user: str  # the bare JID
    password: Secret
    rooms: tuple[str, ...] = ()
    room_server: str = ""  # found by service discovery where it is not given
    nickname: str = "desk"
    tls: str = "starttls"
    ca: str = ""
    seconds: float = 20.0

    @property
    def domain(self) -> str:
        """The server's name in addresses."""
        return self.user.rpartition("@")[2]
