"""A folder with one .ics an event. New events are written as a group with one sync, and never over a file there."""

from __future__ import annotations

import contextlib
import os
import re
from collections.abc import Callable, Mapping, Sequence
from datetime import datetime
from pathlib import Path
from typing import Any

from whenvoca.calendars.components import list_components, unescape_text
from whenvoca.calendars.event import Event
from whenvoca.calendars.patch import event_text, holds_anything, only_event
from whenvoca.calendars.reader import may_touch, read_calendar
from whenvoca.calendars.recurrence import expand_events
from whenvoca.calendars.state import split_key
from whenvoca.calendars.writer import ORIGIN, write_calendar
from whenvoca.engine.effects import Effect, Receipt
from whenvoca.engine.place_protocols import CalendarChanges, Resource, StoredEvent
from whenvoca.errors import PlaceTrouble, SourceFault, WhenvocaError
from whenvoca.places import files
from whenvoca.places.calendar.ics_effects import (
    already_done,
    carry_out,
    is_on_its_version,
    moved_on,
    refusal_of_twins,
    refuse_unread,
    to_stored,
)
from whenvoca.places.calendar.local import LocalCalendar
from whenvoca.places.fork_map import fork_map

_TOO_FRESH = 2.0  # seconds within which time and size of a file do not tell that it stands unchanged
_FEW = 16  # files that wait for the disk each by itself: for more, one wait for everything is shorter
_PER_LOOK = 2000  # files that are read in one look; more come with the next
_PLAIN_PATH = re.compile(r"[A-Za-z0-9/._~-]+")
_PLAIN_UID = re.compile(r"[0-9a-f-]{36}")
_UID = re.compile(rb"^UID:([^\r\n]*(?:\r?\n[ \t][^\r\n]*)*)", re.MULTILINE)
_FILE = b"X-WHENVOCA-FILE:"  # stands in what is kept for an undo: the file that it was in
_FILE_LINE = re.compile(rb"^" + _FILE + rb"([^/\r\n]+\.ics)\r?\n", re.MULTILINE)
_ORIGIN = re.compile(rb"^" + ORIGIN.encode() + rb":([^\r\n]*(?:\r?\n[ \t][^\r\n]*)*)", re.MULTILINE)


class FolderCalendar(LocalCalendar):
    """A calendar that is a folder. Files that are no .ics, or hidden, are left alone."""

    _index: tuple[dict[str, str], dict[str, str]] | None = None  # by UID, by our mark
    _odd: Sequence[str] = ()  # what is called like a file of events and is none

    def __init__(self, *given: Any, **more: Any) -> None:
        super().__init__(*given, **more)
        self._twins: dict[str, set[str]] = {}  # the files of UIDs that stand in several

    # --- looking

    def _count(self) -> int:
        return len(self._look_through()[0])

    def _check(self) -> None:
        if self._path.exists():
            self._refuse_no_folder()
            with files.telling_trouble(self._path, "read"), os.scandir(self._path):
                pass

    def _refuse_no_folder(self) -> None:
        if self._path.exists() and not self._path.is_dir():
            raise SourceFault(
                "is a file, and a folder is wanted here", where=self.address, fix='name it so: file = "…"'
            )

    def _paths(self) -> list[Path]:
        self._refuse_no_folder()
        with files.telling_trouble(self._path, "read"), os.scandir(self._path) as entries:
            named = [each for each in entries if each.name.endswith(".ics") and not each.name.startswith(".")]
            self._odd = [each.name for each in named if not _is_file(each)]
        return [Path(each) for each in sorted(each.path for each in named if each.name not in self._odd)]

    def _look_through(self) -> tuple[dict[str, str], dict[str, str]]:
        """Files by UID and by our mark, found by a look at their lines without parsing them."""
        if self._index is None:
            by_uid: dict[str, str] = {}
            by_mark: dict[str, str] = {}
            self._twins = {}
            for path in self._paths() if self._path.exists() else ():
                with contextlib.suppress(FileNotFoundError):
                    data = path.read_bytes()
                    uids = {_unfolded(found[1]) for found in _UID.finditer(data)}
                    if len(uids) < data.count(b"\nBEGIN:VEVENT") + data.count(
                        b"\nBEGIN:VTODO"
                    ):  # several components of an event, or one without a UID
                        uids = {each.uid for each in list_components(data) if each.name in ("VEVENT", "VTODO")}
                    for uid in uids:
                        if uid in by_uid:
                            self._twins.setdefault(uid, {by_uid[uid]}).add(str(path))
                        by_uid[uid] = str(path)
                    by_mark |= {_unfolded(found[1]): str(path) for found in _ORIGIN.finditer(data)}
            self._index = (by_uid, by_mark)
        return self._index

    def find_event(self, uid: str) -> StoredEvent | None:
        """The event of that UID. Raises SourceFault if its file is broken, or others have that UID too."""
        if uid in self._twins:  # perhaps somebody has fixed it meanwhile
            self._index = None
            self._look_through()
        path = self._file_of(uid)
        if uid in self._twins:
            raise refusal_of_twins(uid, *sorted(self._label(Path(each)) for each in self._twins[uid]))
        return self._stored(path, uid)

    def text_of(self, uid: str) -> bytes:
        path = self._file_of(uid)
        return files.read_file(path) if path.exists() else b""

    def find_marked(self, mark: str) -> StoredEvent | None:
        name = self._look_through()[1].get(mark)
        if name is None or not (path := Path(name)).exists():
            return None
        data = files.read_file(path)
        uid = next((each.uid for each in list_components(data) if each.origin == mark), "")
        return self._stored(path, uid)

    def _stored(self, path: Path, uid: str) -> StoredEvent | None:
        if not path.exists():
            return None
        data = files.read_file(path)
        reading = read_calendar(data, self.zone, file=self._label(path), noun=self._noun)
        refuse_unread(reading, uid, self._label(path))
        kept = only_event(data, uid)
        if path.name != _file_name(uid) and path.name.isprintable():
            kept = kept.replace(b"\n", b"\n" + _FILE + path.name.encode() + b"\r\n", 1)
        return to_stored(reading.events, uid, version_of(data, uid), path.absolute().as_uri(), kept)

    def _label(self, path: Path) -> str:
        return f"{self.address}/{path.name}"

    def find_between(self, low: datetime, high: datetime) -> list[Event]:
        days = low.astimezone(self.zone).date(), high.astimezone(self.zone).date()
        left_out: dict[str, str] = {}
        found = expand_events(self._read_all(lambda data: may_touch(data, *days)), low, high, self.zone, left_out)
        self.unread = [*self.unread, *(f"{self._label(self._file_of(uid))}: {said}" for uid, said in left_out.items())]
        return found

    def all_events(self) -> list[Event]:
        return self._read_all(lambda data: True)

    def _read_all(self, wanted: Callable[[bytes], bool]) -> list[Event]:
        """The events of the files whose text is wanted; what cannot be used goes into ``unread``."""
        found: list[Event] = []
        unread: list[str] = []
        files_of: dict[str, str] = {}
        for path in self._paths() if self._path.exists() else ():
            data = files.read_file(path)
            if wanted(data):
                try:
                    reading = read_calendar(data, self.zone, file=self._label(path), noun=self._noun)
                except SourceFault as fault:
                    unread.append(str(fault))
                    continue
                found += reading.events
                unread += [each.said(self._label(path)) for each in reading.unread]
                for uid in {event.uid for event in reading.events}:
                    if uid in files_of:
                        self._twins.setdefault(uid, {files_of[uid]}).add(str(path))
                    files_of[uid] = str(path)
        self.unread = unread
        return found

    def find_marks(self, prefix: str) -> dict[str, str]:
        found: dict[str, str] = {}
        for mark, name in self._look_through()[1].items():
            if mark.startswith(prefix) and Path(name).exists():
                for each in list_components(files.read_file(Path(name))):
                    if each.origin == mark:
                        found[mark] = each.uid
        return found

    def address_of(self, uid: str) -> str:
        return self._file_of(uid).absolute().as_uri()

    def _file_of(self, uid: str) -> Path:
        path = self._path / _file_name(uid)
        return path if path.exists() else Path(self._look_through()[0].get(uid, path))

    def look(self, known: Mapping[str, Resource], cursor: str) -> CalendarChanges:
        """The files that changed: by time and size, and by their hash where they changed too shortly before a look.

        A file with several events is a piece without an event, and each of its events a piece that is called after
        both.
        """
        look = CalendarChanges(cursor="looked")
        standing, read, kept = set(), set(), set[str]()
        for path in self._paths() if self._path.exists() else ():
            before = known.get(path.name)
            try:
                stamp = _stamp(path, self._clock.wall_seconds())
                standing.add(path.name)
                if before is not None and stamp and stamp == before.stamp:
                    continue
                data = path.read_bytes()
            except FileNotFoundError:
                standing.discard(path.name)
                continue
            version = files.hash_bytes(data)
            if before is not None and version == before.version:
                look.stamped[path.name] = Resource(before.uid, version, stamp)
                continue
            try:
                reading = read_calendar(data, self.zone, file=self._label(path), noun=self._noun)
            except SourceFault as fault:
                look.faults.append(str(fault))
                continue
            by_uid: dict[str, list[Event]] = {}
            for event in reading.events:
                by_uid.setdefault(event.uid, []).append(event)
            look.faults += [each.said(self._label(path)) for each in reading.unread]
            closed = {each.uid for each in reading.unread} - by_uid.keys()  # they stand, and nobody knows how
            if closed and len(closed | by_uid.keys()) == 1:
                continue
            only = next(iter(by_uid)) if len(by_uid) == 1 and not closed else ""
            look.changed[path.name] = (Resource(only, version, stamp), reading.events if only else [])
            kept |= {f"{path.name}/{uid}" for uid in closed}
            if not only:
                for uid, mine in by_uid.items():
                    piece, now = f"{path.name}/{uid}", version_of(data, uid)
                    kept.add(piece)
                    if (was := known.get(piece)) is None or was.version != now:
                        look.changed[piece] = (Resource(uid, now), mine)
            read.add(path.name)
            self._index = None
            if len(read) >= _PER_LOOK:
                look.is_partial = True
                break
        look.faults += [f"{self._label(Path(name))}: is no file, so it holds no event" for name in self._odd]
        for name in known:
            file = name.partition("/")[0]
            if name in kept:
                continue
            if (file in read and name not in look.changed) or (file not in standing and not look.is_partial):
                look.gone.append(name)
        return look

    def resource_of(self, uid: str, version: str) -> tuple[str, Resource] | None:
        """The file of the event, which we have just written."""
        path = Path(self.address_of(uid).removeprefix("file://"))
        path = self._path / _file_name(uid) if not path.exists() else path
        if not path.exists():
            return None
        if path.name == _file_name(uid) or event_text(data := path.read_bytes(), uid) == data:
            return path.name, Resource(uid, version, "")
        return f"{path.name}/{uid}", Resource(uid, version, "")

    # --- writing

    def apply(self, effects: Sequence[Effect], stamp: datetime) -> list[Receipt | WhenvocaError]:
        """Writes a group: temporaries first, one sync for all of them, then each takes its name."""
        creations = [effect for effect in effects if effect.action == "create"]
        others = [effect for effect in effects if effect.action != "create"]
        made = iter(self._create(creations, stamp)) if creations else iter(())
        changed = iter(self._change(others, stamp)) if others else iter(())
        return [next(made) if effect.action == "create" else next(changed) for effect in effects]

    def _change(self, effects: Sequence[Effect], stamp: datetime) -> list[Receipt | WhenvocaError]:
        ready: dict[Path, Path] = {}  # temporaries by the files that they are to replace
        found: list[Receipt | WhenvocaError] = []
        is_few = len(effects) <= _FEW
        try:
            for effect in effects:
                path = self._path_of(effect)
                if path in ready:
                    self._put_all(ready, is_synced=is_few)
                found.append(self._change_one(effect, path, stamp, ready, sync=is_few))
            self._put_all(ready, is_synced=is_few)
        finally:
            self._index = (
                None  # made anew when it is asked for: a group would read the whole folder for each of its events
            )
            for temporary in ready.values():
                temporary.unlink(missing_ok=True)
        return found

    def _put_all(self, ready: dict[Path, Path], *, is_synced: bool) -> None:
        """Gives temporaries their names, once they are on the disk."""
        if not is_synced and ready:
            os.sync()
        for path, temporary in list(ready.items()):
            files.put_in_place(temporary, path, sync=False)
            del ready[path]
        files.sync_folder(self._path)

    def _change_one(
        self, effect: Effect, path: Path, stamp: datetime, ready: dict[Path, Path], *, sync: bool
    ) -> Receipt | WhenvocaError:
        if effect.action == "take":
            return Receipt(effect.stored.version, effect.stored.address)
        data = files.read_file(path) if path.exists() else b""
        uid = split_key(effect.target)[0]
        if answer := already_done(data, effect, self.zone):
            return (
                Receipt(version_of(data, uid), path.absolute().as_uri())
                if answer == "done"
                else moved_on(effect, self._label(path))
            )
        if not is_on_its_version(effect, version_of(data, uid)):
            return moved_on(effect, self._label(path))
        changed = _FILE_LINE.sub(b"", carry_out(data, effect, stamp, self.zone))
        if not holds_anything(changed):
            with files.telling_trouble(path, "deleted"):
                path.unlink()
            return Receipt("", "")
        ready[path] = files.write_temporary(path, changed, sync=sync)
        return Receipt(version_of(changed, uid), path.absolute().as_uri())

    def _path_of(self, effect: Effect) -> Path:
        """The file of the effect's event; of one that is put back the file that it stood in."""
        uid = split_key(effect.target)[0]
        path = self._path / _file_name(uid)
        if path.exists():
            return path
        stood = _FILE_LINE.search(effect.kept.encode()) if effect.action == "put back" else None
        return Path(self._look_through()[0].get(uid, self._path / stood[1].decode() if stood else path))

    def _create(self, effects: Sequence[Effect], stamp: datetime) -> list[Receipt | WhenvocaError]:
        with files.telling_trouble(self._path, "made"):
            self._path.mkdir(parents=True, exist_ok=True)
        base = str(self._path.absolute())
        names = [_file_name(effect.target) for effect in effects]
        temporaries = [f"{base}/.{name}{files.TEMPORARY}" for name in names]

        def write(numbers: Sequence[int]) -> list[str]:
            return [
                _write(effects[number], temporaries[number], stamp, sync=len(effects) <= _FEW) for number in numbers
            ]

        try:
            with files.telling_trouble(self._path, "written"):
                digests = fork_map(write, len(effects))
                if len(effects) > _FEW:
                    os.sync()
                results: list[Receipt | WhenvocaError] = [
                    self._put(temporary, f"{base}/{name}", digest, effect)
                    for temporary, name, digest, effect in zip(temporaries, names, digests, effects, strict=True)
                ]
        except BaseException:
            for temporary in temporaries:
                with contextlib.suppress(OSError):
                    os.unlink(temporary)
            raise
        files.sync_folder(self._path)
        return results

    def _put(self, temporary: str, final: str, digest: str, effect: Effect) -> Receipt | WhenvocaError:
        """Gives the temporary its name, unless a file has it already."""
        try:
            os.link(temporary, final)
        except FileExistsError:
            os.unlink(temporary)
            return self._standing(Path(final), effect)
        except OSError:  # a file system without links
            if os.path.exists(final):
                os.unlink(temporary)
                return self._standing(Path(final), effect)
            os.replace(temporary, final)
        else:
            os.unlink(temporary)
        if self._index is not None:
            self._index[0][effect.target] = self._index[1][effect.lineage] = final
        return Receipt(digest, _file_uri(final))

    def _standing(self, path: Path, effect: Effect) -> Receipt | WhenvocaError:
        """After a crash the file may stand already: ours, then it is done; else another's."""
        stored = self._stored(path, effect.target)
        if stored and stored.event.origin == effect.lineage:
            return Receipt(stored.version, stored.address)
        return PlaceTrouble("stands there already and is not ours", where=self._label(path), fix="move that file away")


def version_of(data: bytes, uid: str) -> str:
    """The version of an event in its file, which it may share; empty where it does not stand there."""
    text = event_text(data, uid) if data else b""
    return files.hash_bytes(text) if text else ""


def _stamp(path: Path, now: float) -> str:
    """Times and size of a file; empty where it changed so shortly ago that an edit of the same size could hide."""
    status = path.stat()
    if abs(now - max(status.st_mtime, status.st_ctime)) < _TOO_FRESH:
        return ""
    return f"{status.st_mtime_ns}:{status.st_ctime_ns}:{status.st_size}:{status.st_ino}"


def _file_uri(path: str) -> str:
    return "file://" + path if _PLAIN_PATH.fullmatch(path) else Path(path).as_uri()


def _write(effect: Effect, path: str, stamp: datetime, *, sync: bool) -> str:
    """Writes the event of an effect into a file; answers the hash of what stands in it."""
    assert effect.event is not None
    data = write_calendar(effect.event, stamp)
    descriptor = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o644)
    try:
        _write_all(descriptor, data)
        if sync:
            os.fsync(descriptor)
    finally:
        os.close(descriptor)
    return files.hash_bytes(data)


def _write_all(descriptor: int, data: bytes) -> None:
    written = os.write(descriptor, data)
    while written < len(data):
        written += os.write(descriptor, data[written:])


def _file_name(uid: str) -> str:
    if _PLAIN_UID.fullmatch(uid):
        return uid + ".ics"
    return re.sub(r"[^A-Za-z0-9@._-]", "_", uid)[:200].lstrip(".") + ".ics"


def _unfolded(value: bytes) -> str:
    return unescape_text(re.sub(rb"\r?\n[ \t]", b"", value).decode("utf-8", "replace").strip())


def _is_file(entry: os.DirEntry[str]) -> bool:
    try:
        return entry.is_file()
    except OSError:  # a link to itself
        return False
