"""Calendars in the ways of other programs, made up at random: read, changed, and undone again.

No line of another component, and none of another property, ever differs.
"""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from typing import Any

from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from tests.calendars.foreign import without, zone
from whenvoca.calendars.components import list_components, unfolded
from whenvoca.calendars.event import Event
from whenvoca.calendars.patch import change_event, property_lines
from whenvoca.calendars.reader import read_calendar
from whenvoca.calendars.series import moved_series
from whenvoca.calendars.state import event_key
from whenvoca.errors import RowFault
from whenvoca.values.zones import load_zone

AZORES = load_zone("Atlantic/Azores")
STAMP = datetime(2027, 3, 1, 10, tzinfo=UTC)
BOOKKEEPING = ("DTSTAMP", "SEQUENCE", "LAST-MODIFIED", "UID")
ZONES = [
    "W. Europe Standard Time",
    "Customized Time Zone",
    "/example.org/Europe/Berlin",
    '"(UTC+01:00) Amsterdam, Berlin"',
]
OF_TITLE = {"SUMMARY", *BOOKKEEPING}
OF_TIME = {"DTSTART", "DTEND", "DURATION", "RRULE", "EXDATE", "RDATE", *BOOKKEEPING}

words = st.sampled_from(["Band", "Führung", "星空 tour", "a\\, b\\; c", "", "x" * 90])
x_lines = st.sampled_from(
    [
        "X-APPLE-SORT;A=1:b",
        'X-ALT-DESC;FMTTYPE=text/html:<b>"x"</b>',
        "GEO:37.1;-25.2",
        "x-lower:kept",
        "ATTACH;ENCODING=BASE64;VALUE=BINARY:AAAA",
        "ATTENDEE;CUTYPE=ROOM;CN=Hall:mailto:hall@example.org",
        "SUMMARY:another one",
        "PRIORITY:high",
        "LAST-MODIFIED:20270101T000000Z",
        "CATEGORIES:one,two",
        "BEGIN:VALARM\nACTION:DISPLAY\nTRIGGER;RELATED=END:PT5M\nX-B:c\nEND:VALARM",
    ]
)
titles = st.builds(
    lambda head, word: f"SUMMARY{head}:{word}", st.sampled_from(["", ";LANGUAGE=de", ';ALTREP="cid:1"']), words
)


@st.composite
def a_component(draw: Any, uid: str, name: str) -> list[str]:
    """The events of one UID: alone, or a series with a changed occurrence."""
    wall = draw(st.datetimes(datetime(2027, 1, 1, 1), datetime(2027, 11, 1, 20)))
    wall = wall.replace(second=0, microsecond=0)
    kind = draw(st.sampled_from(["zone", "utc", "floating", "day"]))

    def moment(prop: str, at: datetime, more: str = "") -> str:
        text = f"{at:%Y%m%dT%H%M%S}"
        return {
            "zone": f"{prop}{more};TZID={name}:{text}",
            "utc": f"{prop}{more}:{text}Z",
            "floating": f"{prop}{more}:{text}",
            "day": f"{prop}{more};VALUE=DATE:{at:%Y%m%d}",
        }[kind]

    ends = [moment("DTEND", wall + timedelta(days=1)), "DURATION:P1D", None]
    end = draw(st.sampled_from(ends if kind == "day" else [*ends, "DURATION:PT1H30M", "DURATION:PT24H"]))
    lines = [f"UID:{uid}", "DTSTAMP:20270101T000000Z", moment("DTSTART", wall), *([end] if end else []), draw(titles)]
    series = draw(st.booleans())
    if series:
        lines.append(f"RRULE:FREQ={draw(st.sampled_from(['DAILY', 'WEEKLY']))};COUNT={draw(st.integers(2, 9))}")
        if draw(st.booleans()):
            lines.append(moment("EXDATE", wall + timedelta(days=7)))
        if draw(st.booleans()) and kind in ("utc", "zone"):
            more = moment("RDATE", wall + timedelta(days=3), ";VALUE=PERIOD")
            lines.append(f"{more}/PT2H")
        if draw(st.booleans()):
            lines.append("EXRULE:FREQ=WEEKLY;INTERVAL=2;COUNT=1")
    lines += draw(st.lists(x_lines, max_size=3))
    found = [lines]
    if series and draw(st.booleans()):
        ranged = draw(st.sampled_from(["", ";RANGE=THISANDFUTURE"]))
        at = wall + timedelta(days=7)
        found.append(
            [
                f"UID:{uid}",
                "DTSTAMP:20270101T000000Z",
                moment("RECURRENCE-ID", at, ranged),
                moment("DTSTART", at),
                draw(titles),
            ]
        )
    return ["\n".join(["BEGIN:VEVENT", *each, "END:VEVENT"]) + "\n" for each in found]


@st.composite
def calendars(draw: Any) -> bytes:
    """A whole file: its zones, events with and without company, folded anywhere, with either end of line."""
    name = draw(st.sampled_from(ZONES))
    parts = [zone(name.strip('"'))]
    for number in range(draw(st.integers(1, 3))):
        uid = draw(st.sampled_from([f"u{number}", "same"]))
        parts += draw(a_component(uid, name))
    if draw(st.booleans()):
        parts.append("BEGIN:VTODO\nUID:t\nSUMMARY:a task\nX-T:1\nEND:VTODO\n")
    text = "BEGIN:VCALENDAR\nVERSION:2.0\nX-WR-CALNAME:x\n" + "".join(parts) + "END:VCALENDAR\n"
    width = draw(st.sampled_from([0, 10, 60]))
    raw = b"\n".join(_folded(line.encode(), width) for line in text.split("\n"))
    return raw.replace(b"\n", b"\r\n") if draw(st.booleans()) else raw


def _folded(line: bytes, width: int) -> bytes:
    """Folded at so many octets, also in the middle of a sign, as some programs do."""
    if not width or len(line) <= width or line.upper().startswith((b"BEGIN", b"END")):
        return line
    return b"\n ".join(line[begin : begin + width] for begin in range(0, len(line), width))


def others(data: bytes, key: str) -> list[bytes]:
    """The texts of all components but that of the key."""
    return [data[each.begin : each.end] for each in list_components(data) if f"{each.uid}{each.occurrence}" != key]


@settings(max_examples=150, deadline=None)
@given(calendars(), st.booleans())
def test_only_what_changes_changes_and_undo_brings_it_back(data: bytes, moves: bool) -> None:
    reading = read_calendar(data, AZORES)
    assert not reading.unread
    for event in reading.events:
        if event.uid in reading.twins or event.and_later:
            continue
        new = replace(event, title="Changed", sequence=event.sequence + 1)
        if moves:
            later = replace(event, start=event.start + timedelta(days=7), end=event.end + timedelta(days=7))
            try:
                new = (
                    moved_series(event, event, later)
                    if event.is_series
                    else replace(later, sequence=event.sequence + 1)
                )
            except RowFault:
                continue  # a series with an EXRULE, or changed from an occurrence on
        check(data, event, new, OF_TIME if moves else OF_TITLE)


def check(data: bytes, event: Event, new: Event, names: set[str]) -> None:
    key = event_key(event.uid, event.occurrence)
    stood = property_lines(data, key, ["title", "start", "repeat"], AZORES)
    changed = change_event(data, event, new, STAMP, AZORES)
    texts = [data[each.begin : each.end] for each in list_components(data)]
    assert len([each for each in texts if each not in changed]) == 1
    assert without(unfolded(changed), *names) == without(unfolded(data), *names)
    [again] = [one for one in read_calendar(changed, AZORES).events if event_key(one.uid, one.occurrence) == key]
    back = replace(
        again,
        **{name: getattr(event, name) for name in ("title", "start", "end", "excluded", "added", "periods")},
        sequence=again.sequence + 1,
        extra=stood,
    )
    undone = change_event(changed, again, back, STAMP, AZORES)
    assert sorted(without(unfolded(undone), *BOOKKEEPING)) == sorted(without(unfolded(data), *BOOKKEEPING))
