"""The kind of place "chat": rooms and people on an XMPP server, or the stand-in in a folder."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from whenvoca.engine.message_protocols import Dictation
from whenvoca.engine.people import Person
from whenvoca.engine.seeing.sources import MessageSource
from whenvoca.places.chat.dictation import TextBeside
from whenvoca.places.chat.folder import FolderChat, PageChat
from whenvoca.places.chat.paged import PagedChat
from whenvoca.places.chat.rehearsed import RehearsedChat
from whenvoca.places.paths import read_path
from whenvoca.places.place_kind import Access, PlaceContext, PlaceKind
from whenvoca.places.secrets import Secret
from whenvoca.places.settings import PlaceSettings

_TLS = ("starttls", "implicit", "none")


def _open_folder(settings: PlaceSettings, context: PlaceContext) -> FolderChat:
    return FolderChat(
        settings.name,
        context.path(settings, "folder"),
        settings.text("folder"),
        context.zone_of(settings),
        rooms=settings.texts("rooms"),
        people=context.workspace.people,
        name_here=settings.text("name", "desk"),
        dictation=_dictation_of(settings),
        page=read_path(settings, "page") if settings.has("page") else "",
    )


def _open_page(settings: PlaceSettings, context: PlaceContext) -> FolderChat:
    """A chat that is nothing but its page: what is said there stands in the state folder."""
    page = read_path(settings, "page")
    folder = context.workspace.state_folder / "pages" / settings.name.lower()
    return PageChat(
        settings.name,
        folder,
        page,
        context.zone_of(settings),
        rooms=(),
        people=context.workspace.people,
        name_here=settings.text("name", "desk"),
        page=page,
    )


def _dictation_of(settings: PlaceSettings) -> Dictation | None:
    kind = settings.text("dictation")
    if kind not in ("", "text beside"):
        fix = 'dictation = "text beside": the words stand in a text file beside the sound'
        raise settings.refuse("dictation", f'this version has no dictation "{kind}"', fix)
    return TextBeside() if kind else None


def _open_server(settings: PlaceSettings, context: PlaceContext) -> Any:
    from whenvoca.places.chat.xmpp import XmppChat
    from whenvoca.places.chat.xmpp_settings import XmppSettings

    workspace = context.workspace
    user, tls = settings.text("user"), settings.text("tls", "starttls")
    if "@" not in user:
        raise settings.refuse("user", "user is no address of an account", 'such as user = "desk@example.org"')
    if tls not in _TLS:
        raise settings.refuse("tls", f'tls is never "{tls}"', f"it is one of: {', '.join(_TLS)}")
    read = XmppSettings(
        host=settings.text("server"),
        port=settings.number("port") or (5223 if tls == "implicit" else 5222),
        user=user,
        password=Secret(settings, "password", user),
        rooms=settings.texts("rooms"),
        room_server=settings.text("room-server"),
        nickname=settings.text("name", "desk"),
        tls=tls,
        ca=context.path_text(settings, "ca"),
        seconds=float(settings.number("seconds") or 20),
    )

    def secret_of(person: Person) -> Secret | None:
        if not person.password:
            return None
        table = PlaceSettings(f"people.{person.name}", {"kind": "person", "password": person.password}, workspace.text)
        return Secret(table, "password", person.chat or person.name)

    chat = XmppChat(settings.name, context.zone_of(settings), read, workspace.people, secret_of)
    return PagedChat(chat, _open_page(settings, context)) if settings.has("page") else chat


def _rehearse(chat: Any, sample: Path | None) -> RehearsedChat:
    return RehearsedChat(chat, sample)


def _watched(folder: Path) -> list[Path]:
    return [folder / "rooms", folder / "people"]


CHAT = PlaceKind(
    name="chat",
    settings="user password rooms room-server name tls ca seconds port dictation",
    accesses=(
        Access(key="folder", open=_open_folder),
        Access(key="server", open=_open_server, package="slixmpp", extra="chat"),
        Access(key="page", open=_open_page, is_besides=True),
    ),
    missing="a chat has a folder, a server or a page",
    example='such as folder = "chat"',
    rehearse=_rehearse,
    source=MessageSource,
    watched=_watched,
    stays_open=True,
)
