"""Opens an XMPP chat from its settings."""

from __future__ import annotations

from pathlib import Path
from zoneinfo import ZoneInfo

from whenvoca.engine.people import Person
from whenvoca.engine.place_protocols import ChatFace
from whenvoca.engine.workspace.settings import Workspace
from whenvoca.errors import SettingsFault
from whenvoca.places.chat.xmpp import XmppChat, XmppSettings
from whenvoca.places.secrets import Secret
from whenvoca.places.settings import PlaceSettings

_TLS = ("starttls", "implicit", "none")


def open_xmpp(settings: PlaceSettings, workspace: Workspace, zone: ZoneInfo) -> ChatFace:
    """The chat of a server. Raises SettingsFault where a setting is missing or slixmpp is not installed."""
    try:
        import slixmpp  # noqa: F401
    except ModuleNotFoundError as error:
        raise SettingsFault("a chat on a server needs slixmpp", fix="pip install 'whenvoca[chat]'") from error
    user, tls = settings.text("user"), settings.text("tls", "starttls")
    if "@" not in user:
        raise settings.refuse("user", "user is no address of an account", 'such as user = "desk@example.org"')
    if tls not in _TLS:
        raise settings.refuse("tls", f'tls is never "{tls}"', f"it is one of: {', '.join(_TLS)}")
    ca = settings.text("ca")
    read = XmppSettings(
        host=settings.text("server"),
        port=settings.number("port") or (5223 if tls == "implicit" else 5222),
        user=user,
        password=Secret(settings, "password", user),
        rooms=settings.texts("rooms"),
        room_server=settings.text("room-server"),
        nickname=settings.text("name", "desk"),
        tls=tls,
        ca=str(workspace.folder / Path(ca).expanduser()) if ca else "",
        seconds=float(settings.number("seconds") or 20),
    )

    def secret_of(person: Person) -> Secret | None:
        if not person.password:
            return None
        table = PlaceSettings(f"people.{person.name}", {"kind": "person", "password": person.password}, workspace.text)
        return Secret(table, "password", person.chat or person.name)

    return XmppChat(settings.name, zone, read, workspace.people, secret_of)
