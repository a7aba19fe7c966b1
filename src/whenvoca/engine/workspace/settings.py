"""The workspace: the folder with whenvoca.toml, the workflows and the ledger; its settings, read and checked."""

from __future__ import annotations

import errno
import os
import re
import tomllib
from collections.abc import Mapping, Sequence
from datetime import time
from pathlib import Path
from typing import Any, Never
from zoneinfo import ZoneInfo

from msgspec import Struct, field

from whenvoca.engine.lineage import new_root
from whenvoca.engine.people import BusyAt, People, Person
from whenvoca.engine.workspace import web_settings
from whenvoca.engine.workspace.days_off import DaysOff, read_days_off
from whenvoca.engine.workspace.meeting_links import MeetingLinks, read_meeting_links
from whenvoca.engine.workspace.web_settings import WebSettings
from whenvoca.errors import PlaceTrouble, SettingsFault
from whenvoca.language.faults import nearest
from whenvoca.values.addresses import is_address, to_address
from whenvoca.values.durations import Duration, parse_duration
from whenvoca.values.weekdays import NAMES
from whenvoca.values.zones import load_zone

FILE = "whenvoca.toml"
_TABLES = ("workspace", "web", "people", "consents", "places")
_WORKSPACE_KEYS = (
    "name",
    "root",
    "zone",
    "dates",
    "week",
    "meeting-link",
    "wait",
    "organizer",
    "history",
    "days-off",
    "towns",
)
_PERSON_KEYS = ("mail", "chat", "zone", "name", "free-busy", "password")
_SHORTEST_HISTORY = 86400  # seconds
_PLACE_NAME = re.compile(r"[^\W_]+(?:-[^\W_]+)*\Z")


class Workspace(Struct, frozen=True):
    """The settings of a workspace. ``places`` are the tables as they stand, checked by the kind that reads them."""

    folder: Path
    text: str
    name: str
    root: str
    zone: ZoneInfo
    places: Mapping[str, Mapping[str, Any]]
    people: People
    consents: Mapping[str, Mapping[str, Any]] = field(default_factory=dict)  # as they stand, by name
    dates: str = ""
    week_starts: str = "monday"
    hours: tuple[time, time] = (time(8, 30), time(17, 30))  # working hours
    days_off: DaysOff = field(default_factory=DaysOff)
    patience: float = 5.0  # seconds to wait for a workbook that is open elsewhere
    history: Duration | None = Duration(days=400)  # how long the ledger remembers what is over; None: for ever
    towns: str = ""  # the sheet of the minutes to each town
    people_names: frozenset[str] = field(default_factory=frozenset)
    web: WebSettings | None = None  # None: nothing listens
    meeting_links: MeetingLinks | None = None  # None: nobody makes any

    @property
    def first_weekday(self) -> int:
        """The day that a week begins with; 0 is Monday."""
        return NAMES.index(self.week_starts.lower())

    @property
    def former_places(self) -> Mapping[str, str]:
        """What places were called first, by their lower-case names of now."""
        return {name.lower(): str(table["formerly"]) for name, table in self.places.items() if table.get("formerly")}

    @property
    def state_folder(self) -> Path:
        """Where the ledger stands: .whenvoca, its owner's only."""
        return self.folder / ".whenvoca"

    def workflow_files(self) -> list[Path]:
        """All workflow files, by name."""
        return sorted((self.folder / "workflows").glob("*.voca"))

    def make_state_folder(self) -> Path:
        """The state folder, made if it is not there. Raises SettingsFault where it cannot be."""
        try:
            self.state_folder.mkdir(mode=0o700, exist_ok=True)
        except OSError as error:
            raise SettingsFault(
                f"the folder of the ledger cannot be made: {error.strerror}",
                where=str(self.state_folder),
                fix="the workspace has to be writable",
            ) from error
        return self.state_folder


def find_workspace(start: Path | None = None) -> Path:
    """The nearest folder upwards from here that holds a whenvoca.toml. Raises SettingsFault if there is none."""
    try:
        start = start or Path.cwd()
    except OSError as error:
        raise SettingsFault(
            "this folder is no longer there", fix="go to another one, or name it: --workspace DIR"
        ) from error
    for folder in (start, *start.parents):
        if (folder / FILE).is_file():
            return folder
    raise SettingsFault(f"there is no {FILE} here or above", where=str(start), fix="whenvoca new DIR makes a workspace")


def load_workspace(folder: Path) -> Workspace:
    """The workspace in that folder. Raises SettingsFault with the line of the fault."""
    path = folder / FILE
    try:
        text = path.read_text(encoding="utf-8-sig")
    except FileNotFoundError as error:
        raise SettingsFault(
            f"there is no {FILE}", where=str(folder), fix="whenvoca new DIR makes a workspace"
        ) from error
    except (OSError, UnicodeDecodeError) as error:
        raise SettingsFault(f"cannot be read: {error}", where=str(path)) from error
    try:
        data = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise SettingsFault(f"is no TOML: {error}", where=FILE) from error
    return _SettingsReader(folder, text, data).read()


class _SettingsReader:
    def __init__(self, folder: Path, text: str, data: dict[str, Any]) -> None:
        self._folder = folder
        self._text = text
        self._data = data

    def read(self) -> Workspace:
        for table in self._data:
            if table not in _TABLES:
                self._refuse(table, "", f'there is no table "{table}"', nearest(table, _TABLES))
        head = self._table("workspace", "", self._data.get("workspace", {}), _WORKSPACE_KEYS)
        zone_name = head.get("zone")
        if not zone_name:
            self._refuse(
                "workspace", "", "the workspace has no zone", 'such as zone = "Europe/Lisbon" below [workspace]'
            )
        people = self._people()
        week = head.get("week", {})
        zone = self._zone("workspace", str(zone_name))
        return Workspace(
            folder=self._folder,
            text=self._text,
            name=str(head.get("name", self._folder.name)),
            root=str(head.get("root", "")),
            zone=zone,
            places=self._places(),
            people=People.of(people, self._organizer(head)),
            consents=self._consents(),
            dates=str(head.get("dates", "")),
            week_starts=self._week_starts(week),
            hours=self._hours(week),
            days_off=self._days_off(head, zone),
            patience=self._seconds(head.get("wait", "5 seconds")),
            towns=self._towns(head),
            history=self._history(str(head.get("history", "400 days"))),
            people_names=frozenset(each.name.lower() for each in people),
            web=self._web() if "web" in self._data else None,
            meeting_links=self._meeting_links(head["meeting-link"]) if "meeting-link" in head else None,
        )

    def _meeting_links(self, table: Any) -> MeetingLinks:
        return read_meeting_links(table, lambda message, fix: self._refuse("workspace", "meeting-link", message, fix))

    def _web(self) -> WebSettings:
        table = self._table("web", "", self._data["web"], web_settings.KEYS)
        return web_settings.read_web(table, lambda key, message, fix: self._refuse("web", key, message, fix))

    def _consents(self) -> dict[str, Mapping[str, Any]]:
        found = self._data.get("consents", {})
        tables = found.values() if isinstance(found, dict) else [found]
        if not isinstance(found, dict) or not all(isinstance(each, dict) for each in tables):
            self._refuse("consents", "", "consents are tables", "written: [consents.NAME]")
        return dict(found)

    def _towns(self, head: dict[str, Any]) -> str:
        name = str(head.get("towns", ""))
        sheets = [each for each, table in self._data.get("places", {}).items() if table.get("kind") == "sheet"]
        if name and name.lower() not in {each.lower() for each in sheets}:
            self._refuse("workspace", "towns", f'towns = "{name}" is no sheet of [places]', nearest(name, sheets))
        return name

    def _week_starts(self, week: Any) -> str:
        starts = week.get("starts", "monday") if isinstance(week, dict) else "monday"
        if str(starts).lower() not in NAMES:
            self._refuse(
                "workspace", "week.starts", f'week.starts = "{starts}" is no day of the week', 'such as "monday"'
            )
        return str(starts)

    def _refuse(self, table: str, key: str, message: str, fix: str = "") -> Never:
        line = line_of(self._text, table, key)
        raise SettingsFault(message, where=f"{FILE}:{line}" if line else FILE, fix=fix)

    def _table(self, table: str, said: str, found: Any, known: tuple[str, ...]) -> dict[str, Any]:
        if not isinstance(found, dict):
            self._refuse(table, "", f"{said or table} is no table", f"written: [{table}]")
        for key in found:
            if key not in known:
                self._refuse(
                    table, key, f'there is no setting "{key}"{" of " + said if said else ""}', nearest(key, known)
                )
        return dict(found)

    def _zone(self, table: str, name: str) -> ZoneInfo:
        try:
            return load_zone(name)
        except SettingsFault as fault:
            self._refuse(table, "zone", fault.message, fault.fix)
            raise

    def _seconds(self, text: Any) -> float:
        span = parse_duration(str(text))
        if span is None:
            self._refuse("workspace", "wait", f'wait = "{text}" is no duration', 'such as wait = "10 seconds"')
        assert span is not None
        return float(span.to_seconds())

    def _history(self, text: str) -> Duration | None:
        if text == "everything":
            return None
        span = parse_duration(text)
        if span is None or (not span.months and span.to_seconds() < _SHORTEST_HISTORY):
            said = f'history = "{text}" is no duration of a day or more'
            self._refuse("workspace", "history", said, 'such as history = "400 days", or "everything"')
        return span

    def _hours(self, week: Any) -> tuple[time, time]:
        text = str(week.get("hours", "08:30-17:30")) if isinstance(week, dict) else "08:30-17:30"
        try:
            begin, end = (time.fromisoformat(part.strip()) for part in text.split("-"))
        except ValueError:
            self._refuse("workspace", "week", f'hours = "{text}" are no working hours', 'such as hours = "08:30-17:30"')
            raise
        return begin, end

    def _days_off(self, head: Mapping[str, Any], zone: ZoneInfo) -> DaysOff:
        if "days-off" not in head:
            return DaysOff()
        return read_days_off(
            self._folder,
            head["days-off"],
            zone,
            lambda message, fix: self._refuse("workspace", "days-off", message, fix),
        )

    def _organizer(self, head: Mapping[str, Any]) -> str:
        organizer = str(head.get("organizer", ""))
        if organizer and not is_address(organizer):
            self._refuse("workspace", "organizer", f'"{organizer}" is not an email address')
        senders = [str(place.get("from", "")) for place in self._places().values() if place.get("kind") == "outbox"]
        return to_address(organizer) or next((sender for sender in senders if is_address(sender)), "")

    def _people(self) -> list[Person]:
        found = []
        people = self._data.get("people", {})
        if not isinstance(people, dict):
            self._refuse("people", "", "people is no table", "written: [people.ines]")
        for name, person in people.items():
            settings = self._table(f"people.{name}", name, person, _PERSON_KEYS)
            mail = str(settings.get("mail", ""))
            if mail and not is_address(mail):
                self._refuse(f"people.{name}", "mail", f'"{mail}" is not an email address')
            zone = self._zone(f"people.{name}", str(settings["zone"])) if "zone" in settings else None
            password = settings.get("password", {})
            if not isinstance(password, dict):
                self._refuse(
                    f"people.{name}", "password", "a password never stands here", 'such as { env = "INES_CHAT" }'
                )
            chat, busy_at = str(settings.get("chat", name)), self._busy_at(str(name), settings.get("free-busy", ""))
            found.append(Person(str(name), to_address(mail), chat, zone, busy_at, dict(password)))
        return found

    def _busy_at(self, name: str, value: Any) -> BusyAt | None:
        if isinstance(value, str):
            is_web = value.lower().startswith(("https://", "http://"))
            return BusyAt("web" if is_web else "file", value) if value else None
        way, where = next(iter(value.items())) if isinstance(value, dict) and len(value) == 1 else ("", "")
        known = self._data.get("places", {})
        calendars = [
            each for each, table in known.items() if isinstance(table, dict) and table.get("kind") == "calendar"
        ]
        if way not in ("calendar", "server"):
            fix = 'a file, an address, { calendar = "…" } or { server = "…" } with the name of a calendar'
            self._refuse(f"people.{name}", "free-busy", "free-busy says nothing that there is", fix)
        if str(where).lower() not in {each.lower() for each in calendars}:
            fix = nearest(str(where), calendars)
            self._refuse(f"people.{name}", "free-busy", f'"{where}" is no calendar of [places]', fix)
        return BusyAt("calendar" if way == "calendar" else "server", str(where))

    def _places(self) -> dict[str, Mapping[str, Any]]:
        places = self._data.get("places", {})
        if not isinstance(places, dict):
            self._refuse("places", "", "places is no table", "written: [places.requests]")
        seen: dict[str, str] = {}
        for name, settings in places.items():
            table = f"places.{name}"
            if not isinstance(settings, dict):
                self._refuse(table, "", f"{name} is no table", f"written: [{table}]")
            if not _PLACE_NAME.match(name):
                self._refuse(
                    table, "", f'"{name}" is no name of a place', "a name is one word of letters, digits and hyphens"
                )
            if name.lower() in seen:
                self._refuse(table, "", f'two places are called "{name}"', "case does not tell names apart")
            seen[name.lower()] = name
        return dict(places)


def line_of(text: str, table: str, key: str = "") -> int:
    """The line on which a table, or a key in it, stands; of a table that is written by its parts the first of them; 0
    if it is not found."""
    name = r"\s*\.\s*".join(f'"?{re.escape(part)}"?' for part in table.split("."))
    header, part = re.compile(rf"\s*\[\s*{name}\s*\]"), re.compile(rf"\s*\[?\[?\s*{name}\s*[.=\]]")
    inside, line_of_table = False, 0
    for number, line in enumerate(text.splitlines(), 1):
        if re.match(r"\s*\[", line):
            inside = bool(header.match(line))
            if inside:
                line_of_table = number
        elif inside and key and re.match(rf'\s*"?{re.escape(key)}"?\s*=', line):
            return number
    return line_of_table or next((number for number, line in enumerate(text.splitlines(), 1) if part.match(line)), 0)


def ensure_root(workspace: Workspace) -> str:
    """The root of identities; a missing one is written into whenvoca.toml and answered, an existing one gives "".

    Raises PlaceTrouble where the file cannot be written.
    """
    return "" if workspace.root else write_root(workspace, new_root())


def write_root(workspace: Workspace, root: str) -> str:
    """Writes the root into whenvoca.toml, everything else in it kept, comments too.

    Raises PlaceTrouble where the file cannot be written.
    """
    import tomlkit

    document = tomlkit.parse((workspace.folder / FILE).read_text(encoding="utf-8-sig"))
    head: Any = document["workspace"]
    head["root"] = root
    _write_settings(workspace, tomlkit.dumps(document))
    return root


def add_place(workspace: Workspace, name: str, settings: Mapping[str, Any], comments: Sequence[str] = ()) -> None:
    """Adds a place to whenvoca.toml, at its end, everything else kept.

    Raises PlaceTrouble where the file cannot be written.
    """
    import tomlkit

    text = (workspace.folder / FILE).read_text(encoding="utf-8-sig")
    table = tomlkit.table()
    for comment in comments:
        table.add(tomlkit.comment(comment))
    for key, value in settings.items():
        if isinstance(value, Mapping):
            inline = tomlkit.inline_table()
            inline.update(value)
            table.add(key, inline)
        else:
            table.add(key, value)
    added = tomlkit.document()
    added.add("places", tomlkit.table(is_super_table=True).add(name, table))
    _write_settings(workspace, text.rstrip("\n") + "\n\n" + tomlkit.dumps(added))


def _write_settings(workspace: Workspace, text: str) -> None:
    path = workspace.folder / FILE
    temporary = path.with_name(f".{FILE}.tmp")
    try:
        temporary.write_text(text, encoding="utf-8", newline="")
        os.replace(temporary, path)
    except OSError as error:
        temporary.unlink(missing_ok=True)
        said = f"cannot be written: {(error.strerror or str(error)).lower()}"
        fix = "make room and run again" if error.errno in (errno.ENOSPC, errno.EDQUOT) else ""
        raise PlaceTrouble(said, where=str(path), fix=fix) from error
