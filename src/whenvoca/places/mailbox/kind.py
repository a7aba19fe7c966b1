"""The kind of place "mailbox": emails that came in, on an IMAP server, in a folder or in a file."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from whenvoca.engine.seeing.email_source import EmailSource, InvitationSource
from whenvoca.places.bounded_answer import parse_size
from whenvoca.places.mailbox.email_reader import ANYBODY
from whenvoca.places.place_kind import Access, PlaceContext, PlaceKind
from whenvoca.places.settings import PlaceSettings

_AFTER = 'such as after = "keep", after = "flag" or after = { move = "Done" }'
_TRUST = 'such as trust = { results = "mail.example.org" }, or trust = "sender" where nobody else can put emails'
_TLS = ("implicit", "starttls", "none")
_LIMIT = "10 MB"


def _after(settings: PlaceSettings) -> tuple[str, str]:
    """What is done with an email whose run is done, and the folder into which it then goes."""
    if not settings.has("after"):
        return "", ""
    if settings.is_text("after"):
        text = settings.text("after")
        if text not in ("keep", "flag"):
            raise settings.refuse("after", f'after is never "{text}"', _AFTER)
        return text.replace("keep", ""), ""
    table = settings.table("after")
    folder = table.get("move")
    if list(table) != ["move"] or not isinstance(folder, str) or not folder.strip(". /"):
        raise settings.refuse("after", "after names no folder", _AFTER)
    if any(part in ("", ".", "..") or part.startswith(".") for part in folder.split("/")):
        raise settings.refuse("after", f'"{folder}" is no name of a folder', _AFTER)
    return "move", folder


def _trust(settings: PlaceSettings) -> str:
    if not settings.has("trust"):
        return ""
    if settings.is_text("trust"):
        if settings.text("trust") != ANYBODY:
            raise settings.refuse("trust", f'trust is never "{settings.text("trust")}"', _TRUST)
        return ANYBODY
    table = settings.table("trust")
    server = table.get("results")
    if list(table) != ["results"] or not isinstance(server, str) or not server.strip():
        raise settings.refuse("trust", "trust names no server", _TRUST)
    return server.strip()


def _reader(settings: PlaceSettings, context: PlaceContext) -> Any:
    from whenvoca.places.mailbox.email_reader import EmailReader

    limit = parse_size(settings.text("limit", _LIMIT))
    if not limit:
        raise settings.refuse("limit", "limit is not a size", f'such as limit = "{_LIMIT}"')
    zone, people = context.zone_of(settings), context.workspace.people
    return EmailReader(settings.name, zone, people, trust=_trust(settings), limit=limit)


def _open_folder(settings: PlaceSettings, context: PlaceContext) -> Any:
    from whenvoca.places.mailbox.folder import FolderMailbox, day_as_moment

    after, done = _after(settings)
    zone = context.zone_of(settings)
    box = FolderMailbox(
        settings.name,
        context.path(settings, "folder"),
        settings.text("folder"),
        zone,
        _reader(settings, context),
        context.clock,
        after=after,
        done=done,
        since=day_as_moment(settings.day("since") if settings.has("since") else None, zone),
    )
    if after == "flag" and not box.is_maildir:
        said = "emails in a folder of .eml files have no flags"
        raise settings.refuse("after", said, 'after = { move = "Done" }, or after = "keep"')
    return box


def _open_file(settings: PlaceSettings, context: PlaceContext) -> Any:
    from whenvoca.places.mailbox.mbox_file import MboxFile

    if any(_after(settings)):
        raise settings.refuse("after", "a file of emails is only read", 'after = "keep"')
    zone, path = context.zone_of(settings), context.path(settings, "file")
    return MboxFile(settings.name, path, settings.text("file"), zone, _reader(settings, context))


def _open_server(settings: PlaceSettings, context: PlaceContext) -> Any:
    from whenvoca.places.mailbox.imap import ImapAccount, ImapMailbox
    from whenvoca.places.sign_in import credential_of, log_into_mailbox

    tls = settings.text("tls", "implicit")
    if tls not in _TLS:
        raise settings.refuse("tls", f'tls is never "{tls}"', f"it is one of: {', '.join(_TLS)}")
    if tls == "none" and settings.text("server") not in ("localhost", "127.0.0.1", "::1"):
        said = f"the password would go to {settings.text('server')} unencrypted"
        raise settings.refuse("tls", said, 'tls = "implicit", or "starttls"; none is for a machine of your own')
    after, done = _after(settings)
    user = settings.text("user")
    credential = credential_of(settings, context, user)
    account = ImapAccount(
        settings.text("server"),
        settings.number("port") or (993 if tls == "implicit" else 143),
        lambda client: log_into_mailbox(client, user, credential),
        tls=tls,
        ca=context.path_text(settings, "ca"),
        seconds=float(settings.number("seconds") or 30),
    )
    return ImapMailbox(
        settings.name,
        context.zone_of(settings),
        account,
        _reader(settings, context),
        folders=settings.texts("mailbox") or ("INBOX",),
        after=after,
        done=done,
        since=settings.day("since") if settings.has("since") else None,
    )


def _rehearse(mailbox: Any, sample: Path | None) -> Any:
    from whenvoca.places.mailbox.rehearsed import RehearsedMailbox

    return RehearsedMailbox(mailbox, sample)


def _watched(path: Path) -> list[Path]:
    return [path, path / "new", path / "cur"] if (path / "cur").is_dir() else [path]


MAILBOX = PlaceKind(
    name="mailbox",
    settings="after trust limit since",
    accesses=(
        Access(key="folder", open=_open_folder),
        Access(key="file", open=_open_file),
        Access(
            key="server",
            open=_open_server,
            settings="port user password mailbox tls ca seconds",
            package="imapclient",
            extra="mail",
        ),
    ),
    missing="a mailbox has a folder, a file or a server",
    example='such as folder = "post"',
    rehearse=_rehearse,
    source=EmailSource,
    other_sources={"invitation": InvitationSource},
    watched=_watched,
    stays_open=True,
)
