"""Sixty files that nobody should have written, and somebody will: for the tests and for benchmarks/hostile.py."""

from __future__ import annotations

import gzip
import io
import random
import zipfile
from collections.abc import Callable

import xlsxwriter

from tests.calendars.foreign import calendar, event, zone
from tests.places.workbooks import ods_workbook

GOOD = event("good", "DURATION:PT1H")
_NOISE = random.Random(15).randbytes(40_000)


def _start(value: str, *lines: str) -> bytes:
    return calendar(GOOD, event("bad", *lines, start=f"DTSTART{value}"))


def _bad(*lines: str) -> bytes:
    return calendar(GOOD, event("bad", *lines))


_HOURLY_ZONE = zone("Odd").replace("FREQ=YEARLY;BYDAY=-1SU;BYMONTH=10", "FREQ=HOURLY")

CALENDARS: dict[str, Callable[[], bytes]] = {
    "empty": lambda: b"",
    "blank": lambda: b"\r\n \r\n",
    "zeros": lambda: bytes(100_000),
    "noise": lambda: _NOISE,
    "page": lambda: b"<!DOCTYPE html><html><body>Sign in</body></html>",
    "packed": lambda: gzip.compress(calendar(GOOD)),
    "utf-16": lambda: calendar(GOOD).decode().encode("utf-16"),
    "latin-1": lambda: _bad("LOCATION:Führung").decode().encode("latin-1"),
    "cut-in-an-event": lambda: calendar(GOOD)[:-40],
    "cut-before-the-end": lambda: calendar(GOOD).replace(b"END:VCALENDAR", b""),
    "only-an-end": lambda: b"END:VCALENDAR\r\n",
    "lone-cr": lambda: calendar(GOOD).replace(b"\r\n", b"\r"),
    "nested": lambda: calendar(GOOD, "BEGIN:VEVENT\n" * 5_000, "END:VEVENT\n" * 5_000),
    "unbalanced": lambda: calendar(GOOD, "END:VEVENT\n" * 50, GOOD),
    "long-line": lambda: _bad("DESCRIPTION:" + "x" * 5_000_000),
    "folds": lambda: _bad("DESCRIPTION:x" + "\n x" * 200_000),
    "no-start": lambda: calendar(GOOD, event("bad", start="")),
    "no-such-day": lambda: _start(":20270230T100000Z"),
    "no-end-of-time": lambda: _start(";VALUE=DATE:99991231"),
    "year-one": lambda: _start(";TZID=Europe/Berlin:00010101T000000", "RRULE:FREQ=HOURLY"),
    "two-kinds": lambda: _start(";VALUE=DATE:20270317", "DTEND:20270318T100000Z"),
    "end-before-start": lambda: _bad("DTEND:20270101T100000Z"),
    "long-duration": lambda: _bad("DURATION:P999999999999W"),
    "long-trigger": lambda: _bad("BEGIN:VALARM", "TRIGGER:-P99999999999W", "END:VALARM"),
    "many-alarms": lambda: _bad("BEGIN:VALARM", "TRIGGER:PT0S", "REPEAT:2000000000", "DURATION:PT1S", "END:VALARM"),
    "times-as-dates": lambda: _bad("RDATE;VALUE=TIME:100000"),
    "interval-0": lambda: _bad("RRULE:FREQ=DAILY;INTERVAL=0"),
    "weekly-first-monday": lambda: _bad("RRULE:FREQ=WEEKLY;BYDAY=1MO"),
    "other-scale": lambda: _bad("RRULE:RSCALE=CHINESE;FREQ=YEARLY"),
    "misspelt-part": lambda: _bad("RRULE:FREQ=DAILY;UNTL=20280101"),
    "no-frequency": lambda: _bad("RRULE:FREQ=OFTEN"),
    "count-below-0": lambda: _bad("RRULE:FREQ=DAILY;COUNT=-1"),
    "two-rules": lambda: _bad("RRULE:FREQ=DAILY", "RRULE:FREQ=WEEKLY"),
    "never-monthly": lambda: _bad("RRULE:FREQ=DAILY;BYMONTH=2;BYMONTHDAY=31"),
    "never-by-seconds": lambda: _bad("RRULE:FREQ=SECONDLY;BYMONTH=2;BYMONTHDAY=30"),
    "never-yearly": lambda: _bad("RRULE:FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=30"),
    "two-thousand-million": lambda: _bad("RRULE:FREQ=MINUTELY;COUNT=2000000000"),
    "every-second": lambda: _bad("RRULE:FREQ=SECONDLY", "DURATION:PT1S"),
    "all-of-a-day": lambda: _bad(
        f"RRULE:FREQ=DAILY;BYHOUR={','.join(map(str, range(24)))};BYMINUTE={','.join(map(str, range(60)))};"
        f"BYSECOND={','.join(map(str, range(60)))}"
    ),
    "long-rule": lambda: _bad(f"RRULE:FREQ=YEARLY;BYYEARDAY={','.join(['366'] * 200_000)}"),
    "many-exceptions": lambda: _bad("RRULE:FREQ=DAILY", f"EXDATE:{','.join(['20270318T100000Z'] * 50_000)}"),
    "many-dates": lambda: _bad(
        f"RDATE:{','.join(f'2027{n % 12 + 1:02}{n % 28 + 1:02}T{n % 24:02}0000Z' for n in range(50_000))}"
    ),
    "long-zone-name": lambda: _start(f";TZID={'x' * 100_000}:20270317T100000"),
    "zone-of-hours": lambda: calendar(_HOURLY_ZONE, GOOD, event("bad", start="DTSTART;TZID=Odd:20270317T100000")),
    "zone-99": lambda: calendar(
        zone("Odd").replace("TZOFFSETTO:+0100", "TZOFFSETTO:+9999"),
        GOOD,
        event("bad", start="DTSTART;TZID=Odd:20270317T100000"),
    ),
    "zone-without-offset": lambda: calendar(
        zone("Odd").replace("TZOFFSETTO", "X-OFFSET"), GOOD, event("bad", start="DTSTART;TZID=Odd:20270317T100000")
    ),
    "twins": lambda: calendar(GOOD, event("bad", "LOCATION:a"), event("bad", "LOCATION:b")),
    "uid-as-a-path": lambda: calendar(GOOD, event("../../../tmp/bad")),
    "uid-of-controls": lambda: calendar(GOOD, event("\x1b[2Jbad")),
    "orphan": lambda: _bad("RECURRENCE-ID:20270317T100000Z"),
    "ten-thousand-guests": lambda: _bad(*(f"ATTENDEE:mailto:guest{n}@example.org" for n in range(10_000))),
    "thousand-events": lambda: calendar(GOOD, *(event(f"e{n}", "X-A;B=c:d") for n in range(1_000))),
}


def _workbook(*cells: tuple[int, int]) -> bytes:
    out = io.BytesIO()
    with xlsxwriter.Workbook(out) as book:
        sheet = book.add_worksheet("Slots")
        sheet.write_row(0, 0, ("Key", "Title"))
        sheet.write_row(1, 0, ("R-1", "Band"))
        for row, column in cells:
            sheet.write(row, column, "stray")
    return out.getvalue()


def _changed(data: bytes, name: str, before: bytes, after: bytes, *, times: int = 1) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(data)) as given, zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as made:
        for each in given.infolist():
            content = given.read(each)
            made.writestr(each.filename, content.replace(before, after, times) if each.filename == name else content)
    return out.getvalue()


def _ods(before: bytes, after: bytes) -> bytes:
    return _changed(ods_workbook([["Key", "Title"], ["R-1", "Band"]]), "content.xml", before, after)


_SHEET = "xl/worksheets/sheet1.xml"
_ENTITIES = (
    b'<!DOCTYPE x [<!ENTITY a "aaaaaaaaaa">'
    + b"".join(b'<!ENTITY %c "%s">' % (98 + n, b"&%c;" % (97 + n) * 10) for n in range(9))
    + b"]>"
)

SHEETS: dict[str, Callable[[], bytes]] = {
    "stray-far.xlsx": lambda: _workbook((1_048_575, 16_383)),
    "stray-down.xlsx": lambda: _workbook((1_048_575, 25)),
    "much-far.xlsx": lambda: _workbook(*((1_048_575 - n, 16_383) for n in range(200))),
    "no-zip.xlsx": lambda: _NOISE,
    "cut.xlsx": lambda: _workbook()[:-300],
    "no-sheet.xlsx": lambda: _changed(_workbook(), _SHEET, b"<worksheet", b"<nothing"),
    "entities.xlsx": lambda: _changed(_workbook(), _SHEET, b"<worksheet", _ENTITIES + b"<worksheet"),
    "bomb.xlsx": lambda: _changed(_workbook(), "xl/sharedStrings.xml", b"Band", b"x" * 300_000_000),
    "spaces.ods": lambda: _ods(b"<text:p>Band", b'<text:p><text:s text:c="2000000000"/>Band'),
    "rows.ods": lambda: _ods(b"<table:table-row>", b'<table:table-row table:number-rows-repeated="1000000000">'),
    "no-zip.ods": lambda: _NOISE,
    "empty.csv": lambda: b"",
    "zeros.csv": lambda: bytes(100_000),
    "noise.csv": lambda: _NOISE,
    "quote.csv": lambda: b'Key,Title\nR-1,"Band\n' + b"R-2,Choir\n" * 50_000,
    "long-cell.csv": lambda: b"Key,Title\nR-1," + b"x" * 5_000_000 + b"\n",
    "wide.csv": lambda: (",".join(f"Column {n}" for n in range(5_000)) + "\n" + ",".join("1" * 5_000) + "\n").encode(),
    "uneven.csv": lambda: b"Key,Title\nR-1,Band\n" + b"".join(b"," * n + b"x\n" for n in range(2_000)),
    "escape.csv": lambda: b"Key,Title\nR-1,\x1b]0;x\x07Band\nR-2,\xe2\x80\xaedna\xe2\x80\xac\n",
    "date.csv": lambda: b"Key,Title,Day\nR-1,Band,9999-12-31\nR-2,Band,0000-00-00\n",
}
