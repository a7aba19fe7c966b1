"""Calendars: one contract for folder and file."""

from __future__ import annotations

import os
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from pathlib import Path
from zoneinfo import ZoneInfo

import pytest

from whenvoca.calendars.event import Event
from whenvoca.engine.clock import RealClock
from whenvoca.engine.effects import Effect, Receipt
from whenvoca.engine.faces import CalendarFace
from whenvoca.errors import PlaceTrouble, WhenvocaError
from whenvoca.places.calendar.folder import FolderCalendar
from whenvoca.places.calendar.single import FileCalendar

AZORES = ZoneInfo("Atlantic/Azores")
STAMP = datetime(2027, 1, 1, tzinfo=UTC)
START = datetime(2027, 3, 17, 21, 30, tzinfo=AZORES)


@pytest.fixture(params=["folder", "file"])
def calendar(request: pytest.FixtureRequest, tmp_path: Path) -> CalendarFace:
    return opened(request.param, tmp_path)


def opened(kind: str, folder: Path) -> CalendarFace:
    if kind == "folder":
        return FolderCalendar("domes", folder / "domes", "domes", AZORES, clock=RealClock())
    return FileCalendar("domes", folder / "domes.ics", "domes.ics", AZORES, clock=RealClock())


def again(calendar: CalendarFace, folder: Path) -> CalendarFace:
    return opened("folder" if isinstance(calendar, FolderCalendar) else "file", folder)


def event(number: int, **more: object) -> Event:
    begin = START + timedelta(days=number)
    plain = Event(
        uid=f"u{number}", title=f"E {number}", start=begin, end=begin + timedelta(hours=2), origin=f"r/w/R-{number}/s/"
    )
    return replace(plain, **more)  # type: ignore[arg-type]


def creation(made: Event) -> Effect:
    return Effect(place="domes", verb="create event", target=made.uid, lineage=made.origin, number=1, event=made)


def create(calendar: CalendarFace, *events: Event) -> list[Receipt | WhenvocaError]:
    return calendar.apply([creation(each) for each in events], STAMP)


def test_created_events_stand_and_are_found_by_uid_mark_and_time(calendar: CalendarFace, tmp_path: Path) -> None:
    receipts = create(calendar, *(event(number) for number in range(3)))
    assert all(isinstance(receipt, Receipt) for receipt in receipts)
    for seen in (calendar, again(calendar, tmp_path)):
        stored = seen.find_event("u1")
        assert stored is not None
        assert stored.event.title == "E 1"
        assert stored.version == receipts[1].version  # type: ignore[union-attr]
        marked = seen.find_marked("r/w/R-2/s/")
        assert marked is not None
        assert marked.event.uid == "u2"
        assert [each.uid for each in seen.find_between(START, START + timedelta(days=1, hours=1))] == ["u0", "u1"]
        assert seen.find_event("u9") is None
        assert seen.find_marked("r/w/R-9/s/") is None
        assert seen.describe().holds == "3 events"


def test_creating_again_what_stands_as_ours_changes_nothing(calendar: CalendarFace, tmp_path: Path) -> None:
    (first,) = create(calendar, event(1))
    before = {path: path.read_bytes() for path in tmp_path.rglob("*.ics")}
    assert create(again(calendar, tmp_path), event(1)) == [first]
    assert {path: path.read_bytes() for path in tmp_path.rglob("*.ics")} == before


def test_event_of_that_uid_that_is_not_ours_is_never_overwritten(calendar: CalendarFace) -> None:
    create(calendar, event(1, origin="", title="theirs"))
    (refused,) = create(calendar, event(1))
    assert isinstance(refused, WhenvocaError)
    stored = calendar.find_event("u1")
    assert stored is not None
    assert stored.event.title == "theirs"


def test_change_goes_through_only_on_the_version_it_was_decided_on(calendar: CalendarFace, tmp_path: Path) -> None:
    create(calendar, event(1), event(2))
    stored = calendar.find_event("u1")
    assert stored is not None
    changed = replace(stored.event, title="new", sequence=1)
    effect = Effect(
        place="domes", verb="change event", target="u1", after={"title": "new"}, stored=stored, event=changed
    )
    (receipt,) = calendar.apply([effect], STAMP)
    assert isinstance(receipt, Receipt)
    fresh = again(calendar, tmp_path).find_event("u1")
    assert fresh is not None
    assert (fresh.event.title, fresh.version) == ("new", receipt.version)
    assert again(calendar, tmp_path).apply([effect], STAMP) == [receipt]  # as after a crash: it stands already
    other_change = replace(effect, event=replace(changed, title="other"))
    (refused,) = again(calendar, tmp_path).apply([other_change], STAMP)  # decided on the old version
    assert isinstance(refused, WhenvocaError)
    assert "changed by another hand" in refused.message
    other = again(calendar, tmp_path).find_event("u2")
    assert other is not None
    assert other.event.title == "E 2"


def test_events_of_other_programs_under_other_names_are_found(tmp_path: Path) -> None:
    calendar = opened("folder", tmp_path)
    create(calendar, event(1))
    (tmp_path / "domes/u1.ics").rename(tmp_path / "domes/renamed by sync.ics")
    fresh = opened("folder", tmp_path)
    found = fresh.find_event("u1")
    assert found is not None
    assert fresh.find_marked("r/w/R-1/s/") == found
    assert found.address.endswith("renamed%20by%20sync.ics")


def test_broken_file_is_named_and_hidden_files_are_left_alone(tmp_path: Path) -> None:
    calendar = opened("folder", tmp_path)
    create(calendar, event(1))
    (tmp_path / "domes/.draft.ics").write_text("junk")
    (tmp_path / "domes/notes.txt").write_text("junk")
    assert len(calendar.find_between(START, START + timedelta(days=3))) == 1
    (tmp_path / "domes/cut.ics").write_bytes((tmp_path / "domes/u1.ics").read_bytes()[:-30])
    with pytest.raises(WhenvocaError, match=r"domes/cut.ics: is cut in the middle"):
        calendar.find_between(START, START + timedelta(days=3))


def test_a_failed_write_leaves_no_half_file(
    calendar: CalendarFace, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
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
