"""Opens the places of a workspace: the kind chooses the backing, one file is opened once."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, Generic, TypeVar
from zoneinfo import ZoneInfo

from msgspec.structs import replace

from whenvoca.calendars.reader import Noun
from whenvoca.engine.clock import Clock
from whenvoca.engine.place_protocols import (
    CalendarFace,
    ChatFace,
    DictationFace,
    OutboxFace,
    PlaceReport,
    SheetFace,
    WebFace,
)
from whenvoca.engine.workspace.settings import LATER_KINDS, Workspace
from whenvoca.errors import SettingsFault, WhenvocaError
from whenvoca.language.definitions import PlaceInfo, column_word
from whenvoca.language.faults import nearest
from whenvoca.language.inference import fold_name
from whenvoca.places import files
from whenvoca.places.calendar.folder import FolderCalendar
from whenvoca.places.calendar.rehearsed import RehearsedCalendar
from whenvoca.places.calendar.single import FileCalendar
from whenvoca.places.chat.dictation import TextBeside
from whenvoca.places.chat.folder import FolderChat
from whenvoca.places.chat.rehearsed import RehearsedChat
from whenvoca.places.settings import PlaceSettings
from whenvoca.places.sheet.csv_file import CsvFile
from whenvoca.places.sheet.grid import Backing
from whenvoca.places.sheet.memory import SheetMemory
from whenvoca.places.sheet.ods_file import OdsFile
from whenvoca.places.sheet.open_file import OpenFile
from whenvoca.places.sheet.place import SheetPlace
from whenvoca.places.sheet.table import SheetSettings, to_hint_settings
from whenvoca.places.sheet.xlsx_file import XlsxFile
from whenvoca.places.web import RehearsedWeb, Web
from whenvoca.values.kinds import Kind
from whenvoca.values.numbers import is_address
from whenvoca.values.zones import load_zone

if TYPE_CHECKING:
    from whenvoca.places.calendar.dav import DavCalendar

_SHEET_KEYS = (
    "kind",
    "file",
    "tab",
    "header",
    "key",
    "dates",
    "decimal",
    "kinds",
    "encoding",
    "delimiter",
    "create",
    "readonly",
    "totals",
    "zone",
)
_TOTALS = "last row"  # the only place of a line of totals
_CALENDAR_KEYS = ("kind", "folder", "file", "zone", "clash", "readonly")
_SERVER_KEYS = ("server", "calendar", "user", "password", "ca", "seconds", "nameserver", "invite")
_TASKS_KEYS = ("kind", "folder", "zone", "readonly")
_CHAT_KEYS = (
    "kind",
    "folder",
    "server",
    "port",
    "user",
    "password",
    "rooms",
    "room-server",
    "name",
    "tls",
    "ca",
    "seconds",
    "zone",
    "dictation",
)
_OUTBOX_KEYS = ("kind", "folder", "server", "port", "user", "password", "from", "tls", "ca", "seconds", "zone")
KINDS = ("sheet", "calendar", "tasks", "chat", "outbox")
AnyFace = SheetFace | CalendarFace | ChatFace | OutboxFace
_ENDINGS: dict[str, type[XlsxFile] | type[OdsFile]] = {".xlsx": XlsxFile, ".xlsm": XlsxFile, ".ods": OdsFile}
Face = TypeVar("Face")


class Places:
    """The places of a workspace by lower-case name. Each is opened when it is first asked for."""

    def __init__(
        self, workspace: Workspace, clock: Clock, zone: ZoneInfo | None = None, *, is_rehearsal: bool = False
    ) -> None:
        self._workspace = workspace
        self._is_rehearsal = is_rehearsal
        self._instead: dict[str, Path] = {}  # of a rehearsal: files that stand for those of sheets
        self._clock = clock
        self._zone = zone or workspace.zone
        self._tables = {
            name.lower(): PlaceSettings(name, table, workspace.text) for name, table in workspace.places.items()
        }
        self._files: dict[Path, OpenFile] = {}
        self._opened: dict[str, AnyFace] = {}
        self._headings: dict[str, list[str]] = {}
        self._memory = SheetMemory(workspace.state_folder / "sheets.json")
        for settings in self._tables.values():
            if settings.kind not in (*KINDS, *LATER_KINDS):
                known = KINDS
                said = f'there is no kind of place "{settings.kind}"' if settings.kind else "the kind is missing"
                raise settings.refuse("kind", said, nearest(settings.kind, known) or f"one of: {', '.join(known)}")

    def names(self) -> list[str]:
        """The names as they are written."""
        return [settings.name for settings in self._tables.values()]

    def kind_of(self, name: str) -> str:
        """The kind of a place."""
        return self._tables[name.lower()].kind

    def set_written(self, columns: Mapping[str, Sequence[str]]) -> None:
        """Tells each sheet which columns workflows write: they never make its rows another, and head a new file."""
        self._headings = {place: list(names) for place, names in columns.items()}
        for place, sheet in self._opened.items():
            if isinstance(sheet, SheetPlace):
                self._tell_written(place, sheet)

    def _tell_written(self, place: str, sheet: SheetPlace) -> None:
        words = self._headings.get(place, [])
        sheet.wanted_headings = [word.replace("-", " ") if word == column_word(word) else word for word in words]
        sheet.written_words = frozenset(fold_name(word) for word in words)

    def only_look(self) -> None:
        """From now on not even what was seen is kept: for commands that may write nothing."""
        self._memory.only_look()

    def rehearsed(self, instead: Mapping[str, Path] | None = None) -> Places:
        """The same places, read for real, where a write is only remembered; ``instead`` names other files for
        sheets."""
        fresh = Places(self._workspace, self._clock, self._zone, is_rehearsal=True)
        fresh.set_written(self._headings)
        fresh._instead = dict(instead or {})
        return fresh

    def renewed(self) -> Places:
        """The same places, opened afresh but for chats, which stay connected."""
        fresh = Places(self._workspace, self._clock, self._zone)
        fresh.set_written(self._headings)
        for name in self._names_of("chat"):
            fresh._opened[name] = self._open(self._tables[name])
        return fresh

    def watched_paths(self) -> dict[str, list[Path]]:
        """The files and folders behind each place that triggers may look at; none for a server."""
        found: dict[str, list[Path]] = {}
        for name, settings in self._tables.items():
            if settings.kind in ("sheet", "calendar", "tasks"):
                found[name] = [self._path(settings, key).absolute() for key in ("folder", "file") if settings.has(key)]
            elif settings.kind == "chat":
                folder = self._path(settings, "folder").absolute() if settings.has("folder") else None
                found[name] = [folder / "rooms", folder / "people"] if folder is not None else []
        return found

    # --- what the check and the stage ask

    def info(self, name: str) -> PlaceInfo | None:
        """What the checker needs of a place."""
        settings = self._tables.get(name.lower())
        if settings is None:
            return None
        if why := self._unavailable(settings):
            return PlaceInfo(name=settings.name, kind=settings.kind, unavailable=why)
        return self._open(settings).info()

    def _unavailable(self, settings: PlaceSettings) -> str:
        if settings.kind in LATER_KINDS:
            return f"this version has no places of the kind {settings.kind}"
        return ""

    def describe(self) -> list[PlaceReport]:
        """Every place for people."""
        found = []
        for settings in self._tables.values():
            if why := self._unavailable(settings):
                found.append(
                    PlaceReport(
                        settings.name, settings.kind, settings.text("server") or settings.text("folder"), "", "", why
                    )
                )
                continue
            try:
                found.append(self._open(settings).describe())
            except WhenvocaError as error:
                found.append(PlaceReport(settings.name, settings.kind, "", "", "", error.message, error.fix))
        return found

    def _names_of(self, kind: str) -> list[str]:
        return [
            name for name, settings in self._tables.items() if settings.kind == kind and not self._unavailable(settings)
        ]

    @property
    def sheets(self) -> Mapping[str, SheetFace]:
        """The sheets, opened when looked up."""
        return _Lookup(self._names_of("sheet"), self.open_named)

    @property
    def calendars(self) -> Mapping[str, CalendarFace]:
        """The calendars, opened when looked up."""
        return _Lookup(self._names_of("calendar"), self.open_named)

    @property
    def tasks(self) -> Mapping[str, CalendarFace]:
        """The lists of tasks, opened when looked up."""
        return _Lookup(self._names_of("tasks"), self.open_named)

    @property
    def chats(self) -> Mapping[str, ChatFace]:
        """The chats, opened when looked up."""
        return _Lookup(self._names_of("chat"), self.open_named)

    @property
    def outboxes(self) -> Mapping[str, OutboxFace]:
        """Where letters go out, opened when looked up."""
        return _Lookup(self._names_of("outbox"), self.open_named)

    @property
    def web(self) -> WebFace:
        """What calls web addresses."""
        return RehearsedWeb() if self._is_rehearsal else Web(self._clock.wait)

    def listen(self, wake: Callable[[str], None]) -> None:
        """From now on ``wake`` is called, from another thread, with a chat's name when something is said there."""
        for name in self._names_of("chat"):
            if self._tables[name].has("server"):
                self.chats[name].listen(lambda name=name: wake(name))  # type: ignore[misc]

    def close(self) -> None:
        """Ends the connections of chats that were opened."""
        for name in self._names_of("chat"):
            if (chat := self._opened.get(name)) is not None:
                chat.close()  # type: ignore[union-attr]

    @property
    def files(self) -> list[OpenFile]:
        """The files behind the sheets opened so far."""
        return list(self._files.values())

    def hash_of(self, file: str) -> str:
        """The hash of a file as it stands, empty if there is none."""
        path = Path(file)
        return files.hash_bytes(files.read_file(path)) if path.exists() else ""

    def sweep(self) -> None:
        """Takes away temporaries that a crash left in the folders of the places."""
        folders = {self._workspace.folder}
        for settings in self._tables.values():
            for key in ("folder", "file"):
                if settings.has(key):
                    path = self._path(settings, key)
                    folders.add(path if key == "folder" else path.parent)
        for folder in folders:
            if folder.is_dir():
                for left in folder.glob(f".*{files.TEMPORARY}"):
                    with contextlib.suppress(OSError):
                        left.unlink()

    def open_named(self, name: str) -> AnyFace | None:
        """The place of that name; None if there is none, or this version cannot open it."""
        settings = self._tables.get(name.lower())
        return None if settings is None or self._unavailable(settings) else self._open(settings)

    # --- opening

    def _open(self, settings: PlaceSettings) -> AnyFace:
        key = settings.name.lower()
        if key not in self._opened:
            opening: dict[str, Callable[[PlaceSettings], AnyFace]] = {
                "sheet": self._open_sheet,
                "chat": self._open_chat,
                "outbox": self._open_outbox,
            }
            self._opened[key] = opening.get(settings.kind, self._open_calendar)(settings)
            place = self._opened[key]
            if isinstance(place, SheetPlace):
                self._tell_written(key, place)
        return self._opened[key]

    def _path(self, settings: PlaceSettings, key: str) -> Path:
        return self._workspace.folder / Path(settings.text(key)).expanduser()

    def _zone_of(self, settings: PlaceSettings) -> ZoneInfo:
        if not settings.has("zone"):
            return self._zone
        try:
            return load_zone(settings.text("zone"))
        except SettingsFault as fault:
            raise settings.refuse("zone", fault.message, fault.fix) from fault

    def _open_sheet(self, settings: PlaceSettings) -> SheetPlace:
        settings.allow(_SHEET_KEYS)
        if not settings.text("file"):
            raise settings.refuse("", "the file is missing", 'such as file = "requests.xlsx"')
        try:
            dates, decimal = to_hint_settings(settings.text("dates") or None, settings.text("decimal") or None)
        except SettingsFault as fault:
            raise settings.refuse("dates" if "dates" in fault.message else "decimal", fault.message) from fault
        if (totals := settings.text("totals")) not in ("", _TOTALS):
            raise settings.refuse("totals", f'totals = "{totals}" is not known', f'written: totals = "{_TOTALS}"')
        read = SheetSettings(
            file=settings.text("file"),
            tab=settings.text("tab") or None,
            header=settings.number("header"),
            key=settings.texts("key"),
            dates=dates,
            decimal=decimal,
            kinds=_kinds(settings),
            encoding=settings.text("encoding"),
            delimiter=settings.text("delimiter"),
            create=settings.yes_no("create"),
            readonly=settings.yes_no("readonly"),
            totals=bool(totals),
            patience=self._workspace.patience,
            people=self._workspace.people_names,
        )
        path = self._path(settings, "file")
        if sample := self._instead.get(settings.name.lower()):
            path = sample
            read = replace(read, file=str(sample), tab=None, header=None, encoding="", delimiter="", create=False)
        place = SheetPlace(settings.name, read, self._zone_of(settings), self._open_file(path, read, settings))
        if not self._is_rehearsal:
            place.memory = self._memory
        return place

    def _open_file(self, path: Path, read: SheetSettings, settings: PlaceSettings) -> OpenFile:
        real = path.resolve()
        if real not in self._files:
            backing = _backing_of(path, read, settings)
            self._files[real] = OpenFile(real, backing, self._clock, is_rehearsal=self._is_rehearsal)
        return self._files[real]

    def _open_server(self, settings: PlaceSettings, zone: ZoneInfo, *, clash: str, readonly: bool) -> DavCalendar:
        from whenvoca.places.calendar.dav import DavCalendar
        from whenvoca.places.calendar.dav_client import DavClient
        from whenvoca.places.secrets import Secret

        user = settings.text("user")
        ca = str(self._path(settings, "ca")) if settings.has("ca") else ""
        client = DavClient(
            settings.text("server"),
            user,
            Secret(settings, "password", user),
            wait=self._clock.wait,
            name=settings.name,
            ca=ca,
            seconds=float(settings.number("seconds") or 30),
            nameserver=settings.text("nameserver"),
        )
        noun: Noun = "task" if settings.kind == "tasks" else "event"
        calendar = settings.text("calendar")
        return DavCalendar(settings.name, client, calendar, zone, clash=clash, readonly=readonly, noun=noun)

    def _open_chat(self, settings: PlaceSettings) -> ChatFace:
        settings.allow(_CHAT_KEYS)
        zone = self._zone_of(settings)
        self._need_one(
            settings, ("folder", "server"), "a chat has either a folder or a server", 'such as folder = "chat"'
        )
        chat: ChatFace
        if settings.has("server"):
            from whenvoca.places.chat.opening import open_xmpp

            chat = open_xmpp(settings, self._workspace, zone)
        else:
            rooms, here = settings.texts("rooms"), settings.text("name", "desk")
            chat = FolderChat(
                settings.name,
                self._path(settings, "folder"),
                settings.text("folder"),
                zone,
                rooms=rooms,
                people=self._workspace.people,
                name_here=here,
                dictation=self._dictation_of(settings),
            )
        if not self._is_rehearsal:
            return chat
        return RehearsedChat(chat, self._instead.get(settings.name.lower()))

    def _dictation_of(self, settings: PlaceSettings) -> DictationFace | None:
        kind = settings.text("dictation")
        if kind not in ("", "text beside"):
            fix = 'dictation = "text beside": the words stand in a text file beside the sound'
            raise settings.refuse("dictation", f'this version has no dictation "{kind}"', fix)
        return TextBeside() if kind else None

    def _open_outbox(self, settings: PlaceSettings) -> OutboxFace:
        from whenvoca.places.mail.folder import FolderOutbox, RehearsedOutbox

        settings.allow(_OUTBOX_KEYS)
        zone, sender = self._zone_of(settings), settings.text("from")
        self._need_one(
            settings,
            ("folder", "server"),
            "an outbox has either a folder or a server",
            'such as folder = "letters-out"',
        )
        if not is_address(sender):
            raise settings.refuse("from", "from is no e-mail address", 'such as from = "desk@example.org"')
        outbox: OutboxFace
        if settings.has("server"):
            outbox = self._open_smtp(settings, zone, sender)
        else:
            outbox = FolderOutbox(settings.name, self._path(settings, "folder"), settings.text("folder"), zone, sender)
        if self._is_rehearsal:
            report = PlaceReport(settings.name, "outbox", "", zone.key)
            return RehearsedOutbox(settings.name, zone, sender, report, outbox.info())
        return outbox

    def _open_smtp(self, settings: PlaceSettings, zone: ZoneInfo, sender: str) -> OutboxFace:
        from whenvoca.places.mail.smtp import SmtpOutbox
        from whenvoca.places.secrets import Secret

        user, tls = settings.text("user"), settings.text("tls", "starttls")
        if tls not in ("starttls", "implicit", "none"):
            raise settings.refuse("tls", f'tls is never "{tls}"', "it is one of: starttls, implicit, none")
        ca = str(self._path(settings, "ca")) if settings.has("ca") else ""
        port = settings.number("port") or {"implicit": 465, "starttls": 587}.get(tls, 25)
        return SmtpOutbox(
            settings.name,
            settings.text("server"),
            port,
            zone,
            sender,
            user=user,
            password=Secret(settings, "password", user),
            tls=tls,
            ca=ca,
            seconds=float(settings.number("seconds") or 30),
        )

    def _need_one(self, settings: PlaceSettings, keys: Sequence[str], said: str, fix: str) -> None:
        if sum(settings.has(key) for key in keys) != 1:
            raise settings.refuse("", said, fix)

    def _open_calendar(self, settings: PlaceSettings) -> CalendarFace:
        keys = _TASKS_KEYS if settings.kind == "tasks" else _CALENDAR_KEYS
        settings.allow((*keys, *(_SERVER_KEYS if settings.has("server") else ())))
        clash = settings.text("clash", "allow")
        if clash not in ("allow", "refuse", "tentative"):
            raise settings.refuse("clash", f'clash is never "{clash}"', "it is one of: allow, refuse, tentative")
        zone, readonly = self._zone_of(settings), settings.yes_no("readonly")
        if sum(settings.has(key) for key in ("folder", "file", "server")) != 1:
            what = (
                "a list of tasks has either a folder"
                if settings.kind == "tasks"
                else "a calendar has either a folder, a file"
            )
            raise settings.refuse("", f"{what} or a server", 'such as folder = "calendars/domes"')
        if settings.has("server"):
            place: Any = self._open_server(settings, zone, clash=clash, readonly=readonly)
            return RehearsedCalendar(place) if self._is_rehearsal else place
        key = "folder" if settings.has("folder") else "file"
        cls: Any = FolderCalendar if key == "folder" else FileCalendar
        path = self._path(settings, key)
        noun = {"noun": "task"} if settings.kind == "tasks" else {}
        place = cls(
            settings.name, path, settings.text(key), zone, clash=clash, readonly=readonly, clock=self._clock, **noun
        )
        return RehearsedCalendar(place) if self._is_rehearsal else place


class _Lookup(Mapping[str, Face], Generic[Face]):
    """Places of one kind by lower-case name, opened when looked up."""

    def __init__(self, names: list[str], opening: Callable[[str], Any]) -> None:
        self._names = names
        self._opening = opening

    def __getitem__(self, name: str) -> Face:
        if name not in self._names:
            raise KeyError(name)
        face: Face = self._opening(name)
        return face

    def __iter__(self) -> Iterator[str]:
        return iter(self._names)

    def __len__(self) -> int:
        return len(self._names)


def _kinds(settings: PlaceSettings) -> dict[str, Kind]:
    found = {}
    for column, kind in settings.table("kinds").items():
        if kind not in set(Kind):
            fix = nearest(str(kind), list(Kind)) or f"one of: {', '.join(Kind)}"
            raise settings.refuse("kinds", f'there is no kind of column "{kind}"', fix)
        found[column] = Kind(kind)
    return found


def _backing_of(path: Path, read: SheetSettings, settings: PlaceSettings) -> Backing:
    return make_backing(
        path, encoding=read.encoding, delimiter=read.delimiter, decimal=read.decimal, dates=read.dates, refuse=settings
    )


def make_backing(
    path: Path,
    *,
    encoding: str = "",
    delimiter: str = "",
    decimal: str | None = None,
    dates: str | None = None,
    refuse: PlaceSettings | None = None,
) -> Backing:
    """The backing for a file, by its ending. Raises SettingsFault for an ending that none reads."""
    ending = path.suffix.lower()
    if ending in (".csv", ".tsv", ".txt"):
        sign = "," if decimal == "decimal comma" else "."
        delimiter = {"tab": "\t", "\\t": "\t"}.get(delimiter, delimiter) or ("\t" if ending == ".tsv" else "")
        return CsvFile(encoding=encoding, delimiter=delimiter, decimal=sign, day_format=dates or "")
    if ending in _ENDINGS:
        return _ENDINGS[ending]()
    message = f"{path.name}: sheets are read from .xlsx, .xlsm, .ods and .csv"
    raise refuse.refuse("file", message) if refuse else SettingsFault(message, fix="save it in one of these formats")
