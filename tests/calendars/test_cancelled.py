"""A cancelled event is none, and a cancelled occurrence is none of its series, wherever one looks (RFC 5545
3.8.1.11)."""

from __future__ import annotations

import pytest

from tests.calendars.foreign import calendar, event
from tests.conftest import SETTINGS, Desk

CANCELLED = ("STATUS:CANCELLED", "DURATION:PT1H")
OWN = event("band", "RECURRENCE-ID:20270318T100000Z", *CANCELLED, start="DTSTART:20270318T100000Z")
DATA = calendar(
    event("band", "RRULE:FREQ=DAILY;COUNT=4", "DURATION:PT1H"),
    OWN,
    event("off", *CANCELLED, start="DTSTART:20270318T120000Z"),
    event("gone", "RRULE:FREQ=DAILY", *CANCELLED, start="DTSTART:20270318T140000Z"),
)
WORKFLOW = (
    "when cal begins an event\n\nfind events in cal as all\n  where  start after 2027-03-01\n"
    'add row to log\n  What  "{event.uid} {event.start} {count(all)}"\n'
)


@pytest.mark.parametrize("place", ['folder = "cal"', 'file = "cal/all.ics"'])
def test_nobody_sees_what_is_cancelled(desk: Desk, place: str) -> None:
    desk.settings(
        SETTINGS,
        f'[places.cal]\nkind = "calendar"\n{place}\n[places.log]\nkind = "sheet"\nfile = "log.csv"\ncreate = true\n',
    )
    desk.workflow(WORKFLOW)
    path = desk.write("cal/all.ics", DATA)
    for now in ("16 08:00", "17 09:05", "18 09:05", "18 11:05", "18 13:05", "19 09:05", "20 09:05", "21 09:05"):
        assert desk.run("run", "--now", f"2027-03-{now}").code == 0
    lines = desk.read("log.csv").splitlines()
    assert lines == ["What", *(f"band {day} Mar 10:00 1" for day in (17, 19, 20))]
    shown = desk.run("agenda", "--from", "2027-03-16", "--until", "2027-03-25", "--json").json["events"]
    assert [each["start"][8:10] for each in shown] == ["17", "19", "20"]
    for said in ("what is on 18 march 2027", "delete band on 18 march 2027", "delete off"):
        desk.run("say", said, "--in", "cal", "--now", "2027-03-16 10:00")
        assert path.read_bytes() == DATA
    assert desk.run("run", "--event", "band @ 2027-03-18T10:00Z").code == 2
    path.write_bytes(DATA.replace(b"STATUS:CANCELLED\r\n", b""))
    shown = desk.run("agenda", "--from", "2027-03-16", "--until", "2027-03-19", "--json").json["events"]
    assert [each["uid"] for each in shown] == ["band", "band", "off", "gone"]


@pytest.mark.parametrize("place", ['folder = "cal"', 'file = "cal/all.ics"'])
@pytest.mark.parametrize(
    ("asked", "code", "said"),
    [
        ("band @ 2027-03-18T10:00:00Z", 0, "it stands in cal as cancelled"),
        ("off", 0, "it stands in cal as cancelled"),
        ("gone", 0, "it stands in cal as cancelled"),
        ("band @ 2027-03-19T10:00:00Z", 0, "was so before the workflow looked for the first time"),
        ("nobody", 2, 'there is no event "nobody"'),
    ],
)
def test_explain_says_that_it_is_cancelled(desk: Desk, place: str, asked: str, code: int, said: str) -> None:
    desk.settings(SETTINGS, f'[places.cal]\nkind = "calendar"\n{place}\n')
    desk.workflow("when cal gains an event\n\ncreate event in cal\n  title  Copy\n  start  event.start\n")
    desk.write("cal/all.ics", DATA)
    desk.run("run", "--now", "2027-03-16 10:00")
    result = desk.run("explain", "--event", asked)
    assert (result.code, said in " ".join((result.out + result.err).split())) == (code, True), result
