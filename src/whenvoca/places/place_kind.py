"""What a kind of place is: its settings, the ways in which it can be reached, how it is rehearsed and observed."""

from __future__ import annotations

from collections.abc import Callable, Mapping, MutableMapping, Sequence
from importlib.util import find_spec
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

from msgspec import Struct

from whenvoca.engine.clock import Clock
from whenvoca.engine.place_protocols import Source
from whenvoca.engine.workspace.settings import Workspace
from whenvoca.errors import SettingsFault
from whenvoca.places.files import refuse_silent
from whenvoca.places.settings import PlaceSettings
from whenvoca.values.zones import load_zone


class PlaceContext(Struct, frozen=True):
    """What places are opened with. ``instead``: in a rehearsal, files that stand for what places hold."""

    workspace: Workspace
    clock: Clock
    zone: ZoneInfo  # of places that name none
    is_rehearsal: bool
    instead: Mapping[str, Path]  # by lower-case name
    written: Mapping[str, Sequence[str]]  # columns that workflows write, by lower-case name
    shared: MutableMapping[Any, Any]  # what places of one kind open together, by whatever they call it

    def zone_of(self, settings: PlaceSettings) -> ZoneInfo:
        """The place's zone, else the workspace's. Raises SettingsFault for one that there is not."""
        if not settings.has("zone"):
            return self.zone
        try:
            return load_zone(settings.text("zone"))
        except SettingsFault as fault:
            raise settings.refuse("zone", fault.message, fault.fix) from fault

    def path(self, settings: PlaceSettings, key: str) -> Path:
        """The file or folder that a setting names, from the workspace's folder on."""
        return self.workspace.folder / Path(settings.text(key)).expanduser()

    def path_text(self, settings: PlaceSettings, key: str) -> str:
        """The same as a text, empty where the setting is not given."""
        return str(self.path(settings, key)) if settings.has(key) else ""


class Access(Struct, frozen=True, kw_only=True):
    """One way in which places of a kind are reached, chosen by the setting that names it: folder, file or server."""

    key: str
    open: Callable[[PlaceSettings, PlaceContext], Any]
    settings: str = ""  # their names, besides those of the kind
    package: str = ""  # that has to be installed, by the module it brings
    extra: str = ""  # which brings it
    is_besides: bool = False  # it may be given besides another one, which then opens the place


def _as_it_is(place: Any, sample: Path | None) -> Any:
    return place


def _path_alone(path: Path) -> Sequence[Path]:
    return [path]


class PlaceKind(Struct, frozen=True, kw_only=True):
    """A kind of place, as `kind = "…"` names it. ``missing`` is said where not just one access is given."""

    name: str
    accesses: tuple[Access, ...]
    settings: str = ""  # the names of those that each access has
    missing: str
    example: str
    rehearse: Callable[[Any, Path | None], Any] = _as_it_is
    """The same place where a write is only remembered; the file is a sample that stands for what it holds."""
    source: Callable[[Any, Any], Source] | None = None  # as a trigger sees it, in a ledger; None: none looks at it
    other_sources: Mapping[str, Callable[[Any, Any], Source]] = {}  # the same, by the word for other subjects of it
    watched: Callable[[Path], Sequence[Path]] = _path_alone  # what is watched of its file or folder
    pends: bool = False  # its writes wait for the save of a file, instead of being done at once
    stays_open: bool = False  # it keeps a connection, which can tell by itself that something happened

    def open(self, settings: PlaceSettings, context: PlaceContext) -> Any:
        """The place. Raises SettingsFault where a setting is wrong, or a package is not installed."""
        given = [each for each in self.accesses if settings.has(each.key)]
        given = [each for each in given if not each.is_besides] or given
        keys = [each.key for each in self.accesses]
        more = given[0].settings if len(given) == 1 else ""
        settings.allow(("kind", "zone", "formerly", *keys, *self.settings.split(), *more.split()))
        if len(given) != 1:
            raise settings.refuse("", self.missing, self.example)
        (access,) = given
        if access.package and find_spec(access.package) is None:
            said = f"{self.name} by {access.key} needs {access.package}"
            raise settings.refuse(access.key, said, f"pip install 'whenvoca[{access.extra}]'")
        for path in self.paths(settings, context):
            refuse_silent(path)
        place = access.open(settings, context)
        if not context.is_rehearsal:
            return place
        return self.rehearse(place, context.instead.get(settings.name.lower()))

    def paths(self, settings: PlaceSettings, context: PlaceContext) -> list[Path]:
        """The files and folders behind a place; none for a server."""
        return [
            context.path(settings, each.key).absolute()
            for each in self.accesses
            if each.key in ("folder", "file") and settings.has(each.key)
        ]
