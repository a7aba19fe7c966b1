"""Calendars: one contract for folder, file and server."""

from __future__ import annotations

import itertools
import os
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path
from zoneinfo import ZoneInfo

import pytest
from msgspec.structs import replace

from tests.servers import Radicale, running_radicale
from whenvoca.calendars.event import Event, changed_fields
from whenvoca.calendars.patch import add_events, remove_event
from whenvoca.calendars.state import event_key
from whenvoca.calendars.writer import empty_calendar
from whenvoca.engine.clock import RealClock
from whenvoca.engine.effects import Effect, Receipt
from whenvoca.engine.ledger.sqlite import SqliteLedger
from whenvoca.engine.lineage import Lineage
from whenvoca.engine.place_protocols import Calendar, CalendarChanges, MovedOn, Resource
from whenvoca.engine.seeing.observing import observe_calendar
from whenvoca.errors import PlaceTrouble, WhenvocaError
from whenvoca.places.calendar.dav import DavCalendar
from whenvoca.places.calendar.dav_client import DavClient
from whenvoca.places.calendar.folder import FolderCalendar
from whenvoca.places.calendar.single import FileCalendar
from whenvoca.places.secrets import Secret
from whenvoca.places.settings import PlaceSettings

AZORES = ZoneInfo("Atlantic/Azores")
STAMP = datetime(2027, 1, 1, tzinfo=UTC)
START = datetime(2027, 3, 17, 21, 30, tzinfo=AZORES)


LINEAGES = [Lineage("r", "w", f"R-{number}", "s") for number in range(10)]
U, MARKS = [each.to_uid(1) for each in LINEAGES], [each.to_mark() for each in LINEAGES]
_counter = itertools.count()


@pytest.fixture(scope="module")
def radicale(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Radicale]:
    with running_radicale(tmp_path_factory.mktemp("radicale")) as server:
        yield server


@pytest.fixture(params=["folder", "file", "server"])
def calendar(request: pytest.FixtureRequest, tmp_path: Path) -> Calendar:
    if request.param != "server":
        return opened(request.param, tmp_path)
    server: Radicale = request.getfixturevalue("radicale")
    path = f"c{next(_counter)}"
    server.make(path, f"Domes {path}")
    return on_server(server, f"Domes {path}")


def on_server(server: Radicale, name: str, user: str = "alice") -> DavCalendar:
    os.environ["WHENVOCA_TEST_DAV"] = f"{user}pw"
    settings = PlaceSettings("domes", {"password": {"env": "WHENVOCA_TEST_DAV"}}, "")
    client = DavClient(server.url, user, Secret(settings, "password", user), wait=lambda seconds: None, name="domes")
    return DavCalendar("domes", client, name, AZORES)


def opened(kind: str, folder: Path) -> Calendar:
    if kind == "folder":
        return FolderCalendar("domes", folder / "domes", "domes", AZORES, clock=RealClock())
    return FileCalendar("domes", folder / "domes.ics", "domes.ics", AZORES, clock=RealClock())


def again(calendar: Calendar, folder: Path) -> Calendar:
    if isinstance(calendar, DavCalendar):
        return DavCalendar("domes", calendar.client, calendar._wanted, AZORES)
    return opened("folder" if isinstance(calendar, FolderCalendar) else "file", folder)


def event(number: int, **more: object) -> Event:
    begin = START + timedelta(days=number)
    plain = Event(uid=U[number], title=f"E {number}", start=begin, end=begin + timedelta(hours=2), origin=MARKS[number])
    return replace(plain, **more)  # type: ignore[arg-type]


def creation(made: Event) -> Effect:
    return Effect(place="domes", verb="create event", target=made.uid, lineage=made.origin, number=1, event=made)


def create(calendar: Calendar, *events: Event) -> list[Receipt | WhenvocaError]:
    return calendar.apply([creation(each) for each in events], STAMP)


def test_created_events_stand_and_are_found_by_uid_mark_and_time(calendar: Calendar, tmp_path: Path) -> None:
    receipts = create(calendar, *(event(number) for number in range(3)))
    assert all(isinstance(receipt, Receipt) for receipt in receipts)
    for seen in (calendar, again(calendar, tmp_path)):
        stored = seen.find_event(U[1])
        assert stored is not None
        assert stored.event.title == "E 1"
        assert stored.version == receipts[1].version  # type: ignore[union-attr]
        marked = seen.find_marked(MARKS[2])
        assert marked is not None
        assert marked.event.uid == U[2]
        assert [each.uid for each in seen.find_between(START, START + timedelta(days=1, hours=1))] == [U[0], U[1]]
        assert seen.find_event(U[9]) is None
        assert seen.find_marked(MARKS[9]) is None
        assert seen.describe().holds == "3 events"


def test_creating_again_what_stands_as_ours_changes_nothing(calendar: Calendar, tmp_path: Path) -> None:
    (first,) = create(calendar, event(1))
    before = {path: path.read_bytes() for path in tmp_path.rglob("*.ics")}
    assert create(again(calendar, tmp_path), event(1)) == [first]
    assert {path: path.read_bytes() for path in tmp_path.rglob("*.ics")} == before


def test_event_of_that_uid_that_is_not_ours_is_never_overwritten(calendar: Calendar) -> None:
    create(calendar, event(1, origin="", title="theirs"))
    (refused,) = create(calendar, event(1))
    assert isinstance(refused, WhenvocaError)
    stored = calendar.find_event(U[1])
    assert stored is not None
    assert stored.event.title == "theirs"


def test_change_goes_through_only_on_the_version_it_was_decided_on(calendar: Calendar, tmp_path: Path) -> None:
    create(calendar, event(1), event(2))
    stored = calendar.find_event(U[1])
    assert stored is not None
    changed = replace(stored.event, title="new", sequence=1)
    effect = Effect(
        place="domes", verb="change event", target=U[1], after={"title": "new"}, stored=stored, event=changed
    )
    (receipt,) = calendar.apply([effect], STAMP)
    assert isinstance(receipt, Receipt)
    fresh = again(calendar, tmp_path).find_event(U[1])
    assert fresh is not None
    assert (fresh.event.title, fresh.version) == ("new", receipt.version)
    assert again(calendar, tmp_path).apply([effect], STAMP) == [receipt]  # as after a crash: it stands already
    other_change = replace(effect, event=replace(changed, title="other"))
    (refused,) = again(calendar, tmp_path).apply([other_change], STAMP)  # decided on the old version
    assert isinstance(refused, WhenvocaError)
    assert "changed by another hand" in refused.message
    other = again(calendar, tmp_path).find_event(U[2])
    assert other is not None
    assert other.event.title == "E 2"


def test_events_of_other_programs_under_other_names_are_found(tmp_path: Path) -> None:
    calendar = opened("folder", tmp_path)
    create(calendar, event(1))
    (tmp_path / f"domes/{U[1]}.ics").rename(tmp_path / "domes/renamed by sync.ics")
    fresh = opened("folder", tmp_path)
    found = fresh.find_event(U[1])
    assert found is not None
    assert fresh.find_marked(MARKS[1]) == found
    assert found.address.endswith("renamed%20by%20sync.ics")


def test_broken_file_is_named_and_hidden_files_are_left_alone(tmp_path: Path) -> None:
    calendar = opened("folder", tmp_path)
    create(calendar, event(1))
    (tmp_path / "domes/.draft.ics").write_text("junk")
    (tmp_path / "domes/notes.txt").write_text("junk")
    assert len(calendar.find_between(START, START + timedelta(days=3))) == 1
    (tmp_path / "domes/cut.ics").write_bytes((tmp_path / f"domes/{U[1]}.ics").read_bytes()[:-30])
    assert len(calendar.find_between(START, START + timedelta(days=3))) == 1
    assert calendar.unread[0].startswith("domes/cut.ics: is cut in the middle")


def test_a_failed_write_leaves_no_half_file(
    calendar: Calendar, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    if isinstance(calendar, DavCalendar):
        return  # a server keeps its own disk
    create(calendar, event(1))
    before = {path.name: path.read_bytes() for path in tmp_path.rglob("*") if path.is_file()}

    def full(*_: object) -> int:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(os, "write" if isinstance(calendar, FolderCalendar) else "fsync", full)
    with pytest.raises(PlaceTrouble, match="the disk is full"):
        create(calendar, event(2), event(3))
    monkeypatch.undo()
    assert {path.name: path.read_bytes() for path in tmp_path.rglob("*") if path.is_file()} == before
    assert all(isinstance(receipt, Receipt) for receipt in create(calendar, event(2), event(3)))


def changed(calendar: Calendar, uid: str, **more: object) -> Effect:
    stored = calendar.find_event(uid)
    assert stored is not None
    new = replace(stored.event, sequence=stored.event.sequence + 1, **more)  # type: ignore[arg-type]
    after = {name: value for name, (_, value) in changed_fields(stored.event, new).items()}
    return Effect(place="domes", verb="change event", target=uid, after=after, stored=stored, event=new)


def deletion(calendar: Calendar, uid: str) -> Effect:
    stored = calendar.find_event(uid)
    assert stored is not None
    return Effect(place="domes", verb="delete event", target=uid, stored=stored, kept=stored.data.decode())


def test_deleted_event_is_gone_and_comes_back_whole(calendar: Calendar, tmp_path: Path) -> None:
    create(calendar, event(1), event(2))
    effect = deletion(calendar, U[1])
    (receipt,) = calendar.apply([effect], STAMP)
    assert isinstance(receipt, Receipt)
    assert receipt.version == ""
    assert again(calendar, tmp_path).find_event(U[1]) is None
    assert again(calendar, tmp_path).find_event(U[2]) is not None
    assert isinstance(again(calendar, tmp_path).apply([effect], STAMP)[0], Receipt)  # as after a crash
    back = Effect(place="domes", verb="put back event", target=U[1], kept=effect.kept)
    (receipt,) = again(calendar, tmp_path).apply([back], STAMP)
    assert isinstance(receipt, Receipt)
    found = again(calendar, tmp_path).find_event(U[1])
    assert found is not None
    assert (found.event, found.version) == (event(1), receipt.version)
    (refused,) = again(calendar, tmp_path).apply([back], STAMP)
    assert isinstance(refused, WhenvocaError)


def test_deletion_goes_through_only_on_the_version_it_was_decided_on(calendar: Calendar, tmp_path: Path) -> None:
    create(calendar, event(1))
    effect = deletion(calendar, U[1])
    again(calendar, tmp_path).apply([changed(again(calendar, tmp_path), U[1], title="theirs")], STAMP)
    (refused,) = again(calendar, tmp_path).apply([effect], STAMP)
    assert isinstance(refused, MovedOn)
    assert again(calendar, tmp_path).find_event(U[1]) is not None


def looked(
    calendar: Calendar, known: dict[str, Resource], cursor: str
) -> tuple[CalendarChanges, dict[str, Resource], str]:
    look = calendar.look(known, cursor)
    fresh = {name: resource for name, (resource, _) in look.changed.items()} | look.stamped
    return look, {name: each for name, each in {**known, **fresh}.items() if name not in look.gone}, look.cursor


def test_look_tells_what_came_changed_and_went_since_the_last_one(calendar: Calendar, tmp_path: Path) -> None:
    create(calendar, *(event(number) for number in range(1, 5)))
    look, known, cursor = looked(again(calendar, tmp_path), {}, "")
    assert sorted(resource.uid for resource, _ in look.changed.values()) == sorted(U[1:5])
    look, known, cursor = looked(again(calendar, tmp_path), known, cursor)
    assert (look.changed, look.gone) == ({}, [])
    other = again(calendar, tmp_path)
    create(other, event(5))
    other.apply([changed(other, U[2], title="moved"), deletion(other, U[3])], STAMP)
    look, known, cursor = looked(again(calendar, tmp_path), known, cursor)
    assert sorted((resource.uid, events[0].title) for resource, events in look.changed.values()) == sorted(
        [(U[2], "moved"), (U[5], "E 5")]
    )
    assert len(look.gone) == 1
    assert {resource.uid for resource in known.values()} == {U[1], U[2], U[4], U[5]}
    (receipt,) = other.apply([changed(other, U[4], title="ours")], STAMP)
    assert isinstance(receipt, Receipt)
    found = other.resource_of(U[4], receipt.version)
    assert found is not None
    look, known, cursor = looked(again(calendar, tmp_path), {**known, found[0]: found[1]}, cursor)
    assert look.changed == {}  # what we have noted ourselves is not told


def of_one_file(folder: Path) -> FolderCalendar:
    """A folder with one file of three events, as another program exports a calendar."""
    folder.mkdir()
    (folder / "export.ics").write_bytes(add_events(empty_calendar(), [event(number) for number in range(3)], STAMP))
    return FolderCalendar("domes", folder, "domes", AZORES, clock=RealClock())


def test_events_that_share_a_file_are_changed_and_deleted_one_by_one(tmp_path: Path) -> None:
    calendar = of_one_file(tmp_path / "domes")
    assert isinstance(calendar.apply([changed(calendar, U[2], title="other")], STAMP)[0], Receipt)
    for left in (2, 1):
        assert isinstance(calendar.apply([deletion(calendar, U[left - 1])], STAMP)[0], Receipt)
        assert len(calendar.all_events()) == left
    assert [each.title for each in calendar.all_events()] == ["other"]
    assert isinstance(calendar.apply([deletion(calendar, U[2])], STAMP)[0], Receipt)
    assert list((tmp_path / "domes").iterdir()) == []


def test_each_event_of_a_shared_file_is_seen_to_come_change_and_go(
    tmp_path: Path, request: pytest.FixtureRequest
) -> None:
    calendar = of_one_file(tmp_path / "domes")
    path, ledger = tmp_path / "domes/export.ics", SqliteLedger(Path(":memory:"))
    request.addfinalizer(ledger.close)

    def seen() -> list[tuple[str, str | None]]:
        last = ledger.last_sequence("domes")
        observe_calendar(ledger, calendar, STAMP)
        return [(U.index(e.subject), e.new and e.new["title"]) for e in ledger.observations("domes", last)]

    assert seen() == [(0, "E 0"), (1, "E 1"), (2, "E 2")]
    path.write_bytes(path.read_bytes().replace(b"SUMMARY:E 1", b"SUMMARY:other"))
    assert seen() == [(1, "other")]
    path.write_bytes(remove_event(path.read_bytes(), U[0]))
    assert seen() == [(0, None)]
    path.rename(tmp_path / "domes/renamed.ics")
    assert seen() == []
    (tmp_path / "domes/renamed.ics").write_bytes(remove_event((tmp_path / "domes/renamed.ics").read_bytes(), U[1]))
    assert seen() == [(1, None)]  # one is left, and its file a file of one event
    create(calendar, event(5))
    (tmp_path / "domes/renamed.ics").unlink()
    assert seen() == [(2, None), (5, "E 5")]


WEEKLY = "FREQ=WEEKLY;COUNT=6"


def test_one_occurrence_is_changed_and_another_taken_out(calendar: Calendar, tmp_path: Path) -> None:
    create(calendar, event(2, rule=WEEKLY), event(3), event(1, rule=WEEKLY))  # in one file, others stand before it
    low, high = START, START + timedelta(days=60)

    def between() -> list[Event]:
        return [each for each in again(calendar, tmp_path).find_between(low, high) if each.uid == U[1]]

    occurrences = between()
    assert len(occurrences) == 6
    second, third = occurrences[1], occurrences[2]
    assert second.occurrence is not None
    stored = calendar.find_event(U[1])
    assert stored is not None
    moved = replace(second, start=second.start + timedelta(hours=1), end=second.end + timedelta(hours=1), title="later")
    effect = Effect(
        place="domes",
        verb="change event",
        target=event_key(U[1], second.occurrence),
        after={"title": "later", "start": moved.start, "end": moved.end},
        stored=replace(stored, event=second),
        event=moved,
    )
    assert isinstance(calendar.apply([effect], STAMP)[0], Receipt)
    stored = again(calendar, tmp_path).find_event(U[1])
    assert stored is not None
    assert [each.title for each in stored.others] == ["later"]
    gone = Effect(
        place="domes",
        verb="delete event",
        target=event_key(U[1], third.occurrence),
        stored=replace(stored, event=third),
        kept=stored.data.decode(),
    )
    assert isinstance(again(calendar, tmp_path).apply([gone], STAMP)[0], Receipt)
    left = between()
    assert [each.title for each in left] == ["E 1", "later", "E 1", "E 1", "E 1"]
    assert left[1].start == second.start + timedelta(hours=1)  # type: ignore[operator]
    back = Effect(
        place="domes",
        verb="put back event",
        target=gone.target,
        kept=gone.kept,
        stored=again(calendar, tmp_path).find_event(U[1]),
    )
    assert isinstance(again(calendar, tmp_path).apply([back], STAMP)[0], Receipt)
    assert len(between()) == 6


def test_marks_are_found_by_how_they_begin(calendar: Calendar, tmp_path: Path) -> None:
    create(calendar, event(1), event(2), event(3, origin=""))
    assert again(calendar, tmp_path).find_marks("r/w/") == {MARKS[1]: U[1], MARKS[2]: U[2]}
    assert again(calendar, tmp_path).find_marks("r/other/") == {}
    assert sorted(each.uid for each in calendar.all_events()) == sorted(U[1:4])
