"""A change writes the lines of what is changed, and an undo brings back what stood there, by every content line."""

from __future__ import annotations

from datetime import UTC, datetime
from pathlib import Path

import icalendar
import pytest
from msgspec.structs import replace

from tests.calendars.foreign import calendar, event, lines_of, without
from tests.conftest import SETTINGS, Desk
from whenvoca.calendars.components import list_components, unfolded
from whenvoca.calendars.patch import change_event, property_lines
from whenvoca.calendars.reader import read_calendar
from whenvoca.calendars.state import event_key
from whenvoca.errors import SourceFault
from whenvoca.values.zones import load_zone

AZORES = load_zone("Atlantic/Azores")
STAMP = datetime(2027, 3, 15, 10, tzinfo=UTC)
FOREIGN = sorted((Path(icalendar.__file__).parent / "tests").rglob("*.ics"))
BOOKKEEPING = ("DTSTAMP", "SEQUENCE", "UID")
PLACE = '[places.cal]\nkind = "calendar"\nfile = "all.ics"\n'
NOW = ("--in", "cal", "--now", "2027-03-15 10:00")
BAND = event("band", "LAST-MODIFIED:20270101T000000Z", "BEGIN:VALARM", "ACTION:DISPLAY", "TRIGGER:-PT5M", "END:VALARM")


def renamed(line: str) -> bytes:
    return calendar(BAND.replace("SUMMARY:band", line), event("other"))


@pytest.mark.parametrize(
    ("line", "wanted"),
    [
        ("SUMMARY;LANGUAGE=de:Band", "SUMMARY;LANGUAGE=de:Choir"),
        (
            'SUMMARY;ALTREP="cid:1@example.org";LANGUAGE=en-GB;X-A="b:c;d":Band',
            'SUMMARY;LANGUAGE=en-GB;X-A="b:c;d":Choir',
        ),
        ("SUMMARY:Band\nSUMMARY:Tape", "SUMMARY:Choir"),
        ("summary:Band", "SUMMARY:Choir"),
    ],
)
@pytest.mark.parametrize("newline", ["\r\n", "\n"])
def test_what_still_holds_stays_and_undo_brings_back_the_rest(desk: Desk, line: str, wanted: str, newline: str) -> None:
    desk.settings(SETTINGS, PLACE)
    data = renamed(line).replace(b"\r\n", newline.encode())
    path = desk.write("all.ics", data)
    assert desk.say("rename band to Choir", *NOW).code == 0
    lines = lines_of(path.read_bytes())
    assert [each for each in lines if each.startswith("SUMMARY")] == [wanted, "SUMMARY:other"]
    assert "LAST-MODIFIED:20270315T110000Z" in lines
    assert lines.index("SEQUENCE:1") < lines.index("BEGIN:VALARM")  # properties before components
    assert path.read_bytes().count(b"\r\n") == (path.read_bytes().count(b"\n") if newline == "\r\n" else 0)
    assert desk.run("undo", "1", "--yes").code == 0
    assert without(lines_of(path.read_bytes()), *BOOKKEEPING) == without(lines_of(data), *BOOKKEEPING)


def test_an_attendee_who_stays_keeps_what_others_noted(desk: Desk) -> None:
    noted = "ATTENDEE;CUTYPE=GROUP;SCHEDULE-STATUS=1.2;CN=Choir:mailto:choir@example.org"
    desk.settings(SETTINGS, PLACE)
    path = desk.write("all.ics", calendar(event("band", noted)))
    assert desk.say("invite ines to band", *NOW).code == 0
    assert noted in lines_of(path.read_bytes())
    assert any("ines@example.org" in line for line in lines_of(path.read_bytes()))


@pytest.mark.parametrize("place", [PLACE, '[places.cal]\nkind = "calendar"\nfolder = "."\n'])
def test_what_is_not_utf_8_is_unread_and_never_written(desk: Desk, place: str) -> None:
    desk.settings(SETTINGS, place)
    latin = event("latin").replace("SUMMARY:latin", "SUMMARY:Führung").encode("latin-1").replace(b"\n", b"\r\n")
    data = calendar(event("band")).replace(b"END:VCALENDAR", latin + b"END:VCALENDAR")
    path = desk.write("all.ics", data)
    shown = desk.run("agenda", "--from", "2027-03-15", "--json")
    assert [each["title"] for each in shown.json["events"]] == ["band"]
    assert '"SUMMARY:Führung" is not written in UTF-8' in shown.json["unread"][0]
    assert desk.say("rename band to Choir", *NOW).code == 0
    assert latin in path.read_bytes()


@pytest.mark.parametrize("path", FOREIGN, ids=[each.stem for each in FOREIGN])
def test_a_change_and_its_undo_touch_no_other_line(path: Path) -> None:
    data = path.read_bytes()
    try:
        reading = read_calendar(data, AZORES, file=path.name)
    except SourceFault:
        return  # no calendar, or cut: nothing is ever written there
    for each in [one for one in reading.events if one.uid not in reading.twins and not one.and_later][:5]:
        key = event_key(each.uid, each.occurrence)
        stood = property_lines(data, key, ["title"], AZORES)
        changed = change_event(
            data, each, new := replace(each, title="Changed", sequence=each.sequence + 1), STAMP, AZORES
        )
        others = [one for one in texts(data) if one not in texts(changed)]
        assert len(others) == 1
        (again,) = (one for one in read_calendar(changed, AZORES).events if event_key(one.uid, one.occurrence) == key)
        assert again == replace(new, extra=())
        undone = change_event(changed, again, replace(each, sequence=again.sequence + 1, extra=stood), STAMP, AZORES)
        assert sorted(without(unfolded(undone), *BOOKKEEPING)) == sorted(without(unfolded(data), *BOOKKEEPING))


def texts(data: bytes) -> list[bytes]:
    return [data[each.begin : each.end] for each in list_components(data)]


@pytest.mark.parametrize(
    "data",
    [
        calendar(event("band")) + calendar(event("other")),
        calendar(event("band"), event("other")) + b"\r\nsent from my telephone\r\n",
        b"\xef\xbb\xbf" + calendar(event("band"), event("other")),
        calendar(event("band"), event("other")).replace(
            b"SUMMARY:other", "SUMMARY:oth\u00e9r".encode().replace(b"\xa9", b"\r\n \xa9")
        ),
    ],
    ids=["two objects", "words behind", "a mark of order", "a fold within a sign"],
)
def test_what_is_there_is_read_and_changed(desk: Desk, data: bytes) -> None:
    desk.settings(SETTINGS, PLACE)
    path = desk.write("all.ics", data)
    shown = desk.run("agenda", "--from", "2027-03-15", "--json").json
    assert (len(shown["events"]), shown["unread"]) == (2, [])
    assert desk.say("rename band to Choir", *NOW).code == 0
    assert set(unfolded(data)) - set(unfolded(path.read_bytes())) == {"SUMMARY:band"}
    shown = desk.run("agenda", "--from", "2027-03-15", "--json").json
    assert (len(shown["events"]), shown["unread"]) == (2, [])
