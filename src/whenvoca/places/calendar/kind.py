"""The kinds of places "calendar" and "tasks": a folder of .ics files, one .ics file, or a CalDAV server."""

from __future__ import annotations

import re
from functools import partial
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from whenvoca.calendars.clashing import ClashRule
from whenvoca.calendars.reader import Noun
from whenvoca.engine.seeing.answer_source import AnswerSource
from whenvoca.engine.seeing.sources import CalendarSource
from whenvoca.places.calendar.folder import FolderCalendar
from whenvoca.places.calendar.local import LocalCalendar
from whenvoca.places.calendar.rehearsed import RehearsedCalendar
from whenvoca.places.calendar.single import FileCalendar
from whenvoca.places.place_kind import Access, PlaceContext, PlaceKind
from whenvoca.places.settings import PlaceSettings

_FEED = re.compile(r"/[a-z0-9][a-z0-9_-]*\.ics")
_CLASHES = ("allow", "refuse", "tentative", "ask")
_SERVER_SETTINGS = "calendar user password ca seconds size also nameserver"
_INVITES = ("us", "server", "nobody")


def _clash(settings: PlaceSettings) -> str:
    clash = settings.text("clash", "allow")
    if clash not in _CLASHES:
        raise settings.refuse("clash", f'clash is never "{clash}"', f"it is one of: {', '.join(_CLASHES)}")
    return clash


def _clash_rule(settings: PlaceSettings) -> ClashRule:
    by = settings.text("clash-by", "calendar")
    if by not in ("calendar", "location"):
        raise settings.refuse("clash-by", f'clash-by is never "{by}"', "it is one of: calendar, location")
    return ClashRule(settings.number("holds") or 1, by == "location")


def _invite(settings: PlaceSettings) -> str:
    """Who sends the invitations of its events, empty where that is not said."""
    invite = settings.text("invite")
    if invite not in ("", *_INVITES) or (invite == "server" and not settings.has("server")):
        fix = "it is one of: us, nobody; server where the calendar is on one"
        raise settings.refuse("invite", f'invite is never "{invite}" here', fix)
    return invite


def _check_feed(settings: PlaceSettings) -> None:
    """Raises SettingsFault where the name by which the calendar is served is none."""
    if settings.has("feed") and not _FEED.fullmatch(settings.text("feed")):
        raise settings.refuse(
            "feed", f'"{settings.text("feed")}" cannot be the end of a link', 'such as feed = "/domes.ics"'
        )


def _noun(settings: PlaceSettings) -> Noun:
    return "task" if settings.kind == "tasks" else "event"


def _open_files(cls: type[LocalCalendar], key: str, settings: PlaceSettings, context: PlaceContext) -> LocalCalendar:
    _check_feed(settings)
    calendar = cls(
        settings.name,
        context.path(settings, key),
        settings.text(key),
        context.zone_of(settings),
        clash=_clash(settings),
        readonly=settings.yes_no("readonly"),
        clock=context.clock,
        noun=_noun(settings),
    )
    calendar.invite, calendar.clash_rule = _invite(settings), _clash_rule(settings)
    return calendar


def _also(settings: PlaceSettings) -> tuple[str, ...]:
    """Other addresses that may see user and password. Raises SettingsFault for what is none, or not encrypted."""
    for each in settings.texts("also"):
        address = urlsplit(each)
        is_own_machine = address.hostname in ("localhost", "127.0.0.1", "::1")
        if not address.hostname or not (address.scheme == "https" or (address.scheme == "http" and is_own_machine)):
            raise settings.refuse(
                "also", f'also: "{each}" is no address of a server', 'such as also = ["https://dav2.example.org"]'
            )
    return settings.texts("also")


def _open_server(settings: PlaceSettings, context: PlaceContext) -> Any:
    from whenvoca.places.calendar.dav import DavCalendar
    from whenvoca.places.calendar.dav_client import DavClient
    from whenvoca.places.sign_in import credential_of

    _check_feed(settings)
    zone, clash, user = context.zone_of(settings), _clash(settings), settings.text("user")
    client = DavClient(
        settings.text("server"),
        user,
        credential_of(settings, context, user),
        wait=context.clock.wait,
        name=settings.name,
        ca=context.path_text(settings, "ca"),
        seconds=float(settings.number("seconds") or 30),
        nameserver=settings.text("nameserver"),
        size=settings.size("size"),
        also=_also(settings),
    )
    calendar, readonly = settings.text("calendar"), settings.yes_no("readonly")
    place = DavCalendar(settings.name, client, calendar, zone, clash=clash, readonly=readonly, noun=_noun(settings))
    place.invite, place.clash_rule = _invite(settings), _clash_rule(settings)
    return place


def _rehearse(place: Any, sample: Path | None) -> RehearsedCalendar:
    return RehearsedCalendar(place)


_FOLDER = Access(key="folder", open=partial(_open_files, FolderCalendar, "folder"))
_SERVER = Access(key="server", open=_open_server, settings=_SERVER_SETTINGS, package="httpx", extra="server")
CALENDAR = PlaceKind(
    name="calendar",
    settings="clash clash-by holds readonly feed invite",
    accesses=(_FOLDER, Access(key="file", open=partial(_open_files, FileCalendar, "file")), _SERVER),
    missing="a calendar has either a folder, a file or a server",
    example='such as folder = "calendars/domes"',
    rehearse=_rehearse,
    source=CalendarSource,
    other_sources={"answer": AnswerSource},
)
TASKS = PlaceKind(
    name="tasks",
    settings="readonly",
    accesses=(_FOLDER, _SERVER),
    missing="a list of tasks has either a folder or a server",
    example='such as folder = "calendars/domes"',
    rehearse=_rehearse,
    source=CalendarSource,
)
