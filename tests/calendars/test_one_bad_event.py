"""A calendar with one event that nobody can use: it is named with file, line and reason, and the others are shown."""

from __future__ import annotations

from datetime import UTC, datetime

import pytest

from tests.calendars.foreign import calendar, event, zone
from tests.conftest import REQUESTS, SETTINGS, Desk
from whenvoca.calendars.reader import read_calendar
from whenvoca.calendars.recurrence import expand_events
from whenvoca.errors import RowFault
from whenvoca.values.zones import load_zone

AZORES = load_zone("Atlantic/Azores")
GOOD = event("good", start="DTSTART:20270317T110000Z")
# what is wrong, and what is said of it
BAD = [
    (event("bad", "RRULE:FREQ=DAILY;INTERVAL=0"), "INTERVAL are numbers from 1 on"),
    (event("bad", "RRULE:FREQ=DAILY;COUNT=-1"), "COUNT and INTERVAL"),
    (event("bad", "RRULE:FREQ=WEEKLY;BYDAY=1MO"), "no rule of repetition"),
    (event("bad", "RRULE:FREQ=SOMETIMES"), "FREQ=SOMETIMES"),
    (event("bad", "RRULE:UNTL=20280101;FREQ=DAILY"), "UNTL"),
    (event("bad", "RRULE:RSCALE=CHINESE;FREQ=YEARLY"), "RSCALE"),
    (event("bad", "RRULE:FREQ=DAILY;BYMONTH=2;BYMONTHDAY=31"), "gives no day at all"),
    (event("bad", "RRULE:FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=30"), "gives no day at all"),
    (event("bad", "RRULE:FREQ=DAILY", "RRULE:FREQ=WEEKLY"), "several rules of repetition"),
    (event("bad", "EXRULE:FREQ=NEVER", "RRULE:FREQ=DAILY"), "no rule of repetition"),
    (event("bad", start="DTSTART;VALUE=DATE:99991231"), "9999-12-31 lies outside the years"),
    (event("bad", start="DTSTART:00010101T000000"), "0001-01-01 lies outside the years"),
    (event("bad", "DTEND:20270318T000000Z", start="DTSTART;VALUE=DATE:20270317"), "a day, and the other a time"),
    (event("bad", start=""), "it has no start"),
    (event("bad", start="DTSTART:soon"), "DTSTART:soon cannot be read"),
    (event("bad", start="DTSTART:20270231T100000"), "DTSTART:20270231T100000 cannot be read"),
    (event("bad", "RDATE;VALUE=TIME:100000", "RRULE:FREQ=DAILY"), "RDATE"),
    (event("bad", start=f"DTSTART;TZID={'x' * 100_000}:20270317T100000"), "there is no time zone"),
    (event("bad", "DURATION:long"), "DURATION:long cannot be read"),
]


@pytest.mark.parametrize(("bad", "why"), BAD, ids=[f"{n} {why[:30]}" for n, (_, why) in enumerate(BAD)])
@pytest.mark.parametrize("is_first", [True, False])
def test_what_is_wrong_is_said_of_its_event_alone(bad: str, why: str, is_first: bool) -> None:
    data = calendar(zone("x"), *((bad, GOOD) if is_first else (GOOD, bad)))
    reading = read_calendar(data, AZORES)
    assert [each.uid for each in reading.events] == ["good"]
    (unread,) = reading.unread
    assert (unread.uid, unread.title) == ("bad", "bad")
    assert why in unread.why
    assert data.decode().split("\r\n")[unread.line - 1] == "BEGIN:VEVENT"
    assert not any(word in unread.why for word in ("b'", "object has no", "vBroken", "expected"))


@pytest.mark.parametrize("is_folder", [True, False], ids=["folder", "file"])
def test_the_workspace_works_on_beside_it(desk: Desk, is_folder: bool) -> None:
    place = 'folder = "cal"' if is_folder else 'file = "cal/all.ics"'
    desk.settings(SETTINGS, REQUESTS, f'[places.cal]\nkind = "calendar"\n{place}\n')
    desk.workflow(
        "when requests gains a row\n\nfind events in cal as found\n  where  start after 2027-01-01\n"
        "add row to log\n  What  count(found)\n"
    )
    desk.workflow("when cal gains an event\n  existing  yes\n\nadd row to log\n  What  event.title\n", "seen")
    path = desk.write("cal/all.ics", calendar(GOOD, BAD[0][0], event("third")))
    desk.rows(",,R-1,M 42,17.03.2027,,")
    shown = desk.run("agenda", "--from", "2027-03-15", "--json")
    assert [each["uid"] for each in shown.json["events"]] == ["third", "good"]
    assert shown.json["unread"][0].startswith('cal/all.ics, line 10: "bad" cannot be used: "FREQ=DAILY;INTERVAL=0"')
    assert desk.run("run").code == 1  # what cannot be used is named
    assert sorted(desk.read("log.csv").split()) == ["2", "What", "good", "third"]
    assert "1 unread" in desk.run("places").out
    assert desk.say("what is on 17 march 2027?", "--in", "cal").code == 0
    path.write_bytes(calendar(GOOD, event("bad", "RRULE:FREQ=DAILY;COUNT=2"), event("third")))  # mended, it comes
    assert desk.run("run").code == 0
    assert "bad" in desk.read("log.csv")


def test_an_event_that_can_no_longer_be_used_is_not_gone(desk: Desk) -> None:
    desk.settings(SETTINGS, REQUESTS, '[places.cal]\nkind = "calendar"\nfolder = "cal"\n')
    desk.workflow(
        'when cal gains, changes or loses an event\n  existing  yes\n\nadd row to log\n  What  "{event.title} '
        '{happened}"\n'
    )
    path = desk.write("cal/all.ics", calendar(GOOD, event("third")))
    assert desk.run("run").code == 0
    before = desk.read("log.csv")
    path.write_bytes(calendar(GOOD, event("third", "RRULE:FREQ=DAILY;INTERVAL=0")))
    told = desk.run("run")
    assert desk.read("log.csv") == before, told
    path.write_bytes(calendar(GOOD))
    desk.run("run")
    assert "third lost" in desk.read("log.csv")


def test_a_mirror_does_not_make_a_second_one_of_an_event_that_cannot_be_used(desk: Desk) -> None:
    desk.settings(SETTINGS, REQUESTS).rows(",,R-1,M 42,17.03.2027,20:00,22:00")
    desk.workflow(
        "when requests gains, changes or loses a row\n\nmirror event in domes\n  title  Title\n  start  Day at From\n"
        "  end  Day at To\n"
    )
    assert desk.run("run").code == 0
    (path,) = desk.events()
    path.write_bytes(path.read_bytes().replace(b"SUMMARY", b"RRULE:FREQ=DAILY;INTERVAL=0\r\nSUMMARY"))
    desk.rows(",,R-1,M 43,17.03.2027,20:00,22:00")
    (told,) = desk.run("run", "--json").json["runs"]
    assert told["outcome"] != "done"
    assert "cannot be used" in told["reason"]
    assert len(desk.events()) == 1
    assert b"M 42" in path.read_bytes()


def test_a_series_that_occurs_too_often_ends_and_says_where(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("whenvoca.calendars.recurrence.MOST_OCCURRENCES", 50)
    dense = event("dense", "RRULE:FREQ=SECONDLY", "DURATION:PT1S")
    events = read_calendar(calendar(dense, GOOD), AZORES).events
    low, high = datetime(2027, 3, 17, tzinfo=UTC), datetime(2032, 3, 17, tzinfo=UTC)
    left_out: dict[str, str] = {}
    found = expand_events(events, low, high, AZORES, left_out)
    assert sum(each.uid == "dense" for each in found) == 50
    assert "good" in {each.uid for each in found}
    assert list(left_out.values()) == [
        '"dense" occurs more than 50 times in that period; after 2027-03-17 10:00 more than 99 more are left out'
    ]
    with pytest.raises(RowFault, match="more than 50 times"):
        expand_events(events, low, high, AZORES)
