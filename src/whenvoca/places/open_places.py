"""The places of a workspace: each opened by its kind when it is first asked for."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any, Generic, TypeVar

from whenvoca.calendars.free_busy import FreeBusy
from whenvoca.engine.all_places import Places
from whenvoca.engine.clock import Clock
from whenvoca.engine.effects import MEETINGS, THE_FILES, THE_WEB
from whenvoca.engine.ledger.protocol import Ledger
from whenvoca.engine.mail_protocols import Mailbox
from whenvoca.engine.message_protocols import Chat, Outbox
from whenvoca.engine.place_protocols import Calendar, PlaceReport, SavingFile, Sheet, Source, Writer
from whenvoca.engine.workspace.settings import Workspace
from whenvoca.errors import PlaceTrouble, SettingsFault, WhenvocaError
from whenvoca.language.definitions import PlaceInfo
from whenvoca.language.faults import nearest
from whenvoca.places import files
from whenvoca.places.consents import ConsentSecret
from whenvoca.places.kept_files import KeptFiles
from whenvoca.places.kinds import PLACE_KINDS
from whenvoca.places.meetings import MeetingPlace, RehearsedMeetings
from whenvoca.places.place_kind import PlaceContext
from whenvoca.places.published_times import fetch_free_busy
from whenvoca.places.settings import PlaceSettings
from whenvoca.places.sheet.memory import SheetMemory
from whenvoca.places.sheet.open_file import OpenFile
from whenvoca.places.sign_in import credential_of
from whenvoca.places.web import RehearsedWeb, Web

PlaceT = TypeVar("PlaceT")


class OpenPlaces(Places):
    """The places of a workspace by lower-case name; ``instead`` names files that stand for what some hold in a
    rehearsal. Raises SettingsFault for a kind that there is not; what else is wrong with a place, when it is opened."""

    def __init__(
        self,
        workspace: Workspace,
        clock: Clock,
        *,
        written: Mapping[str, Sequence[str]] | None = None,
        is_rehearsal: bool = False,
        instead: Mapping[str, Path] | None = None,
    ) -> None:
        self._workspace, self._clock, self._written = workspace, clock, written or {}
        self._context = PlaceContext(
            workspace, clock, workspace.zone, is_rehearsal, instead or {}, self._written, shared={}
        )
        self._tables = {
            name.lower(): PlaceSettings(name, table, workspace.text) for name, table in workspace.places.items()
        }
        self._opened: dict[str, Any] = {}
        self._borrowed: set[str] = set()
        for settings in self._tables.values():
            if settings.kind not in PLACE_KINDS:
                said = f'there is no kind of place "{settings.kind}"' if settings.kind else "the kind is missing"
                fix = nearest(settings.kind, PLACE_KINDS) or f"one of: {', '.join(PLACE_KINDS)}"
                raise settings.refuse("kind", said, fix)

    # --- the same places otherwise

    def rehearsed(self, instead: Mapping[str, Path] | None = None) -> OpenPlaces:
        fresh = OpenPlaces(self._workspace, self._clock, written=self._written, is_rehearsal=True, instead=instead)
        for name in self._lasting() if not self._context.is_rehearsal else ():
            if name in self._opened:  # what people show is seen by the connection that shows it
                kind = PLACE_KINDS[self.kind_of(name)]
                fresh._opened[name] = kind.rehearse(self._opened[name], (instead or {}).get(name))
                fresh._borrowed.add(name)
        return fresh

    def renewed(self) -> OpenPlaces:
        fresh = OpenPlaces(self._workspace, self._clock, written=self._written)
        fresh._opened = {name: self._open(self._tables[name]) for name in self._lasting()}
        return fresh

    # --- what the check asks

    def names(self) -> list[str]:
        """The names as they are written."""
        return [settings.name for settings in self._tables.values()]

    def kind_of(self, name: str) -> str:
        """The kind of a place."""
        return self._tables[name.lower()].kind

    def info(self, name: str) -> PlaceInfo | None:
        """What the checker needs of a place."""
        settings = self._tables.get(name.lower())
        if settings is None:
            return None
        try:
            info: PlaceInfo = self._open(settings).info()
        except PlaceTrouble as trouble:
            return PlaceInfo(
                name=settings.name,
                kind=settings.kind,
                trouble=trouble.message,
                trouble_fix=trouble.fix,
                trouble_exit=trouble.exit_code,
            )
        return info

    def about_invitations(self, name: str) -> str:
        """What is wrong with how the invitations of events in a calendar go out, empty where nothing is."""
        place = self.open_named(name)
        if place.invite == "server":
            try:
                return "" if place.scheduling.sends else f"the server of {name} does not send invitations by itself"
            except WhenvocaError as error:
                return f"whether the server of {name} sends invitations is not known: {error.message}"
        if place.invite == "nobody":
            return f"nobody sends invitations from {name}, as its settings say"
        return "" if self.outboxes else "there is no outbox by which invitations could go"

    def describe(self) -> list[PlaceReport]:
        """Every place for people."""
        return [self._describe(settings) for settings in self._tables.values()]

    def _describe(self, settings: PlaceSettings) -> PlaceReport:
        try:
            report: PlaceReport = self._open(settings).describe()
        except WhenvocaError as error:
            return PlaceReport(settings.name, settings.kind, "", "", "", error.message, error.fix)
        return report

    # --- what the stage asks

    def fetch_free_busy(self, address: str) -> FreeBusy:
        return fetch_free_busy(address)

    def of_kind(self, kind: str) -> Mapping[str, Any]:
        return _Lookup(self._names_of(kind), self.open_named)

    def usable(self, kind: str) -> list[Any]:
        """The places of one kind whose settings are right."""
        found = []
        for name in self._names_of(kind):
            with contextlib.suppress(WhenvocaError):
                found.append(self.open_named(name))
        return found

    @property
    def sheets(self) -> Mapping[str, Sheet]:
        return self.of_kind("sheet")

    @property
    def calendars(self) -> Mapping[str, Calendar]:
        return self.of_kind("calendar")

    @property
    def tasks(self) -> Mapping[str, Calendar]:
        return self.of_kind("tasks")

    @property
    def chats(self) -> Mapping[str, Chat]:
        return self.of_kind("chat")

    @property
    def mailboxes(self) -> Mapping[str, Mailbox]:
        return self.of_kind("mailbox")

    @property
    def outboxes(self) -> Mapping[str, Outbox]:
        return self.of_kind("outbox")

    def writer(self, name: str) -> Writer | None:
        if name == THE_WEB:
            return RehearsedWeb() if self._context.is_rehearsal else Web(self._clock.wait)
        if name == MEETINGS:
            return RehearsedMeetings() if self._context.is_rehearsal else MeetingPlace(self._workspace)
        if name == THE_FILES:
            return KeptFiles(self._workspace.folder, is_rehearsal=self._context.is_rehearsal)
        return None if PLACE_KINDS[self.kind_of(name)].pends else self.open_named(name)

    def source(self, name: str, ledger: Ledger, subject: str = "") -> Source:
        kind = PLACE_KINDS[self.kind_of(name)]
        source = kind.other_sources.get(subject, kind.source)
        assert source is not None  # no trigger's sentence has a slot for it
        return source(self.open_named(name), ledger)

    def open_named(self, name: str) -> Any:
        """The place of that name; None if there is none. Raises SettingsFault where its settings are wrong."""
        settings = self._tables.get(name.lower())
        return None if settings is None else self._open(settings)

    def consent_of(self, name: str) -> ConsentSecret | None:
        """What has to be consented to before a place can be used; None where it takes a password, or nothing. Raises
        SettingsFault."""
        settings = self._tables[name.lower()]
        credential = credential_of(settings, self._context, settings.text("user"))
        return credential if isinstance(credential, ConsentSecret) else None

    def _names_of(self, kind: str) -> list[str]:
        return [name for name, each in self._tables.items() if each.kind == kind]

    def _open(self, settings: PlaceSettings) -> Any:
        key = settings.name.lower()
        if key not in self._opened:
            self._opened[key] = PLACE_KINDS[settings.kind].open(settings, self._context)
        return self._opened[key]

    # --- files

    @property
    def files(self) -> Sequence[SavingFile]:
        return list(self._context.shared.get(OpenFile, {}).values())

    def hash_of(self, file: str) -> str:
        path = Path(file)
        return files.hash_bytes(files.read_file(path)) if path.exists() else ""

    def sweep(self) -> None:
        paths = [path for each in self._paths().values() for path in each]
        folders = {self._workspace.folder, *paths, *(path.parent for path in paths)}
        for folder in folders:
            for left in folder.glob(f".*{files.TEMPORARY}") if folder.is_dir() else ():
                with contextlib.suppress(OSError):
                    left.unlink()

    def watched_paths(self) -> dict[str, list[Path]]:
        return {
            name: [each for path in paths for each in PLACE_KINDS[self.kind_of(name)].watched(path)]
            for name, paths in self._paths().items()
            if PLACE_KINDS[self.kind_of(name)].source is not None
        }

    def _paths(self) -> dict[str, list[Path]]:
        return {
            name: PLACE_KINDS[settings.kind].paths(settings, self._context) for name, settings in self._tables.items()
        }

    def only_look(self) -> None:
        """From now on not even what was seen is kept: for commands that may write nothing."""
        SheetMemory.of(self._context.shared, self._workspace.state_folder).only_look()

    # --- connections

    def listen(self, wake: Callable[[str], None]) -> None:
        for name in self._lasting():
            self._open(self._tables[name]).listen(lambda name=name: wake(name))

    def take_over(self, other: OpenPlaces) -> None:
        """Goes on with the connections of others, where they are set as here, and ends the rest of them."""
        for name in self._alike(other):
            if name in other._opened:
                self._opened[name] = other._opened.pop(name)
        other.close()

    def borrow(self, other: OpenPlaces) -> None:
        """Uses the connections of others, where they are set as here, and leaves them open."""
        for name in self._alike(other):
            with contextlib.suppress(SettingsFault):  # told when it is opened here
                self._opened[name] = other._open(other._tables[name])
                self._borrowed.add(name)

    def _alike(self, other: OpenPlaces) -> list[str]:
        if self._workspace.people != other._workspace.people:
            return []
        both = [name for name in self._lasting() if name in other._tables]
        return [name for name in both if self._tables[name].is_like(other._tables[name])]

    def close(self) -> None:
        """Ends the connections of places that were opened here."""
        for name in self._lasting():
            if name in self._opened and name not in self._borrowed:
                self._opened[name].close()

    def _lasting(self) -> list[str]:
        return [name for kind in PLACE_KINDS.values() if kind.stays_open for name in self._names_of(kind.name)]


class _Lookup(Mapping[str, PlaceT], Generic[PlaceT]):
    """Places by lower-case name, opened when looked up."""

    def __init__(self, names: list[str], opening: Callable[[str], Any]) -> None:
        self._names = names
        self._opening = opening

    def __getitem__(self, name: str) -> PlaceT:
        if name not in self._names:
            raise KeyError(name)
        place: PlaceT = self._opening(name)
        return place

    def __iter__(self) -> Iterator[str]:
        return iter(self._names)

    def __len__(self) -> int:
        return len(self._names)
