"""The kind of place "outbox": emails go out by an SMTP server, or into the stand-in's folder."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from whenvoca.engine.message_protocols import Outbox
from whenvoca.places.place_kind import Access, PlaceContext, PlaceKind
from whenvoca.places.settings import PlaceSettings
from whenvoca.values.addresses import is_address

_TLS = ("starttls", "implicit", "none")


def _sender(settings: PlaceSettings) -> str:
    sender = settings.text("from")
    if not is_address(sender):
        raise settings.refuse("from", "from is not an email address", 'such as from = "desk@example.org"')
    return sender


def _open_folder(settings: PlaceSettings, context: PlaceContext) -> Any:
    from whenvoca.places.mail.folder import FolderOutbox  # the library of messages takes long to load

    zone, folder = context.zone_of(settings), context.path(settings, "folder")
    return FolderOutbox(settings.name, folder, settings.text("folder"), zone, _sender(settings))


def _open_server(settings: PlaceSettings, context: PlaceContext) -> Any:
    from whenvoca.places.mail.smtp import SmtpOutbox
    from whenvoca.places.sign_in import credential_of

    zone, sender = context.zone_of(settings), _sender(settings)
    user, tls = settings.text("user"), settings.text("tls", "starttls")
    if tls not in _TLS:
        raise settings.refuse("tls", f'tls is never "{tls}"', f"it is one of: {', '.join(_TLS)}")
    return SmtpOutbox(
        settings.name,
        settings.text("server"),
        settings.number("port") or {"implicit": 465, "starttls": 587}.get(tls, 25),
        zone,
        sender,
        user=user,
        password=credential_of(settings, context, user),
        tls=tls,
        ca=context.path_text(settings, "ca"),
        seconds=float(settings.number("seconds") or 30),
    )


def _rehearse(outbox: Outbox, sample: Path | None) -> Outbox:
    from whenvoca.places.mail.folder import RehearsedOutbox

    return RehearsedOutbox(outbox)


OUTBOX = PlaceKind(
    name="outbox",
    settings="port user password from tls ca seconds",
    accesses=(Access(key="folder", open=_open_folder), Access(key="server", open=_open_server)),
    missing="an outbox has either a folder or a server",
    example='such as folder = "outbox"',
    rehearse=_rehearse,
)
