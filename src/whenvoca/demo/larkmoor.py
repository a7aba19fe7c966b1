"""Writes the Larkmoor workspace: sheets, calendars, workflows. All of it is made up."""

from __future__ import annotations

import io
from collections.abc import Sequence
from datetime import UTC, date, datetime, time
from importlib import resources
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

from msgspec.structs import replace

from whenvoca.calendars.event import Attendee, Event
from whenvoca.calendars.patch import add_events, change_event
from whenvoca.calendars.reader import read_events
from whenvoca.calendars.writer import empty_calendar, write_calendar
from whenvoca.engine.lineage import new_root
from whenvoca.places.files import replace_file
from whenvoca.places.sheet.grid import TabWrites
from whenvoca.places.sheet.xlsx_file import XlsxFile, name_maker

NOW, LATER = "2027-03-15 09:00", "2027-03-17 09:00"
_ZONE = ZoneInfo("Atlantic/Azores")
_STAMP = datetime(2027, 1, 4, 9, 0, tzinfo=UTC)

HEADINGS = "Answer, Booking, Link, Request no, Night of, From, To, Target, Instrument, Observers, Notes".split(", ")
_REQUESTS: tuple[tuple[Any, ...], ...] = (
    ("R-101", date(2027, 3, 16), time(20, 45), time(23, 30), "M 81", "wide camera", "ines@example.org", "two filters"),
    ("R-102", date(2027, 3, 16), time(23, 30), time(4, 15), "NGC 4565", "spectrograph", "rui@example.org", ""),
    (
        "R-104",
        "17.03.2027",
        time(21, 30),
        time(2, 0),
        "M 42",
        "wide camera",
        "ines@example.org, tomas@example.org",
        "bring flats",
    ),
    (
        "R-105",
        "31.02.2027",
        time(21, 30),
        time(2, 0),
        "M 13",
        "wide camera",
        "tomas@example.org",
        "date to be confirmed",
    ),
    ("R-106", "19.03.2027", "9 pm", "midnight", "Jupiter", "planet camera", "ana@example.org", ""),
    ("R-107", date(2027, 3, 20), time(20, 15), time(22, 0), "=crab nebula", "", "rui@example.org", "no instrument yet"),
    ("R-108", date(2027, 3, 20), time(22, 0), time(5, 0), "Coma cluster", "wide camera", "ines, rui", "long one"),
)

_VISITS = """\
Answer;Booking;Visit no;School;Topic;Visit date;Begin;Finish;Pupils;Venue;Contact
;;V-11;Sea School;Moon;07/04/2027;10:00;12:30;24;North dome;joana@example.org
;;V-12;Hill School;Sun and shadows;08/04/2027;;;18;Hall;paulo@example.org
;;V-13;Port School;Stars;31/04/2027;14:00;15:00;20;Hall;marta@example.org
;;V-14;Lighthouse School;"Planets; and their moons";13/04/2027;9:30;11:00;31;North dome;luis@example.org
"""

_DUTIES = """\
Answer,Duty no,Duty,Person,Day,From,To
,D-1,Dome watch,ines,16/03/2027,20:00,23:30
,D-2,Dome watch,tomas,17/03/2027,20:00,23:30
,D-3,Visitors,ana,18/03/2027,14:00,17:00
,D-4,Dome watch,rui,19/03/2027,20:00,23:30
,D-5,Visitors,ana,20/03/2027,14:00,18:00
"""


_NIGHT_JOBS = """\
Done,Job,Weight
,flat fields,1
,focus,1
,M 81,2
,darks,1
,closing,1
"""

_TOWN_MINUTES = """\
Town,Minutes
Port Town,35
Farol,50
"""


def write_workspace(folder: Path) -> None:
    """Writes all files of the workspace into ``folder``. Raises PlaceTrouble where they cannot be written."""
    packaged = resources.files("whenvoca.demo") / "files"
    settings = (packaged / "whenvoca.toml").read_text(encoding="utf-8").replace("{root}", new_root())
    (folder / "workflows").mkdir(parents=True, exist_ok=True)
    replace_file(folder / "whenvoca.toml", settings.encode())
    for entry in (packaged / "workflows").iterdir():
        replace_file(folder / "workflows" / entry.name, entry.read_bytes())
    replace_file(folder / "requests.xlsx", make_requests())
    replace_file(folder / "school-visits.csv", _VISITS.encode())
    replace_file(folder / "duties.csv", _DUTIES.encode())
    replace_file(folder / "night-jobs.csv", _NIGHT_JOBS.encode())
    replace_file(folder / "town-minutes.csv", _TOWN_MINUTES.encode())
    _write_calendars(folder / "calendars")


def make_requests(rows: Sequence[Sequence[Any]] = _REQUESTS) -> bytes:
    """The workbook of requests: headings on row 4, styled, with a chart and a second tab."""
    import xlsxwriter

    target = io.BytesIO()
    with xlsxwriter.Workbook(target, {"in_memory": True}) as book:
        book.set_properties({"title": "Requests for observing slots", "author": "Larkmoor Observatory"})
        sheet = book.add_worksheet("Slots")
        forms = {
            "title": book.add_format({"bold": True, "font_size": 15, "font_color": "#1f3a5f"}),
            "note": book.add_format({"italic": True, "font_color": "#667788"}),
            "head": book.add_format({"bold": True, "bg_color": "#dfe8f1", "bottom": 1, "text_wrap": True}),
            "outcome": book.add_format({"bg_color": "#f4f8ee"}),
            "date": book.add_format({"num_format": "ddd d mmm yyyy"}),
            "time": book.add_format({"num_format": "hh:mm"}),
        }
        sheet.write("A1", "Larkmoor Observatory: requests for observing slots", forms["title"])
        sheet.write("A2", "One line a request. The first three columns are filled in for you.", forms["note"])
        for column, heading in enumerate(HEADINGS):
            sheet.write(3, column, heading, forms["head"])
        for number, row in enumerate(rows, 4):
            for column in range(3):
                sheet.write_blank(number, column, None, forms["outcome"])
            for column, value in enumerate(row, 3):
                _write_cell(sheet, number, column, value, forms)
        for column, width in enumerate((30, 12, 12, 11, 17, 8, 8, 16, 15, 38, 22)):
            sheet.set_column(column, column, width)
        sheet.freeze_panes(4, 0)
        _add_counts(book, len(rows))
    return name_maker(target.getvalue(), "Whenvoca demo")


def _write_cell(sheet: Any, row: int, column: int, value: Any, forms: dict[str, Any]) -> None:
    if isinstance(value, date):
        sheet.write_datetime(row, column, datetime.combine(value, time()), forms["date"])
    elif isinstance(value, time):
        sheet.write_datetime(row, column, value, forms["time"])
    elif value:
        sheet.write_string(row, column, value)


def _add_counts(book: Any, count: int) -> None:
    """A second tab with formulas and a chart over the first."""
    counts = book.add_worksheet("Instruments")
    counts.write_row(0, 0, ("Instrument", "Requests"))
    for number, instrument in enumerate(("wide camera", "spectrograph", "planet camera"), 1):
        counts.write(number, 0, instrument)
        counts.write_formula(number, 1, f"=COUNTIF(Slots!$I$5:$I${count + 40},A{number + 1})")
    chart = book.add_chart({"type": "bar"})
    chart.add_series({"categories": "=Instruments!$A$2:$A$4", "values": "=Instruments!$B$2:$B$4", "name": "Requests"})
    chart.set_title({"name": "Requests an instrument"})
    counts.insert_chart("D2", chart)


def change_requests(path: Path) -> None:
    """What a person does in the tour: a new row, and a bad one that was corrected stays bad no longer."""
    data = path.read_bytes()
    grid = XlsxFile().load(data, "Slots")
    last = max(number for number, row in enumerate(grid.rows) if any(cell is not None for cell in row))
    fresh = (
        ("R-109", date(2027, 3, 21), time(21, 0), time(1, 30), "M 51", "spectrograph", "tomas", "new"),
        (
            "R-110",
            date(2027, 3, 28),
            time(0, 30),
            time(3, 0),
            "M 3",
            "wide camera",
            "ines",
            "the night the clocks change",
        ),
    )
    cells: dict[tuple[int, int], Any] = {
        (last + offset, column): value for offset, row in enumerate(fresh, 1) for column, value in enumerate(row, 3)
    }
    bad = next(number for number, row in enumerate(grid.rows) if "R-105" in row)
    cells[bad, 4] = "18.03.2027"
    write = TabWrites(cells, {last + offset: last for offset in range(1, len(fresh) + 1)})
    replace_file(path, XlsxFile().patch(data, {"Slots": write}))


def change_duties(path: Path) -> None:
    """What a person does in the tour: one duty is moved, one withdrawn, one taken out, and all are sorted by person."""
    head, *rows = path.read_text(encoding="utf-8").splitlines()
    rows = [row.replace("17/03/2027,20:00", "17/03/2027,21:00") for row in rows if ",D-3," not in row]
    rows = ["withdrawn" + row if ",D-4," in row else row for row in rows]
    ordered = sorted(rows, key=lambda row: row.split(",")[3])
    replace_file(path, "\n".join([head, *ordered, ""]).encode())


def move_visit(folder: Path) -> None:
    """What a person does in the tour: the visit of Sea School is moved to the afternoon, in the calendar."""
    for path in sorted(folder.glob("*.ics")):
        data = path.read_bytes()
        for event in read_events(data, _ZONE):
            if (
                event.title.startswith("Sea School:")
                and isinstance(event.start, datetime)
                and isinstance(event.end, datetime)
            ):
                later = replace(
                    event,
                    start=event.start.replace(hour=14),
                    end=event.end.replace(hour=16),
                    sequence=event.sequence + 1,
                )
                replace_file(path, change_event(data, event, later, _STAMP, _ZONE))


def _at(day: date, hour: int, minute: int = 0) -> datetime:
    return datetime(day.year, day.month, day.day, hour, minute, tzinfo=_ZONE)


def _domes() -> list[Event]:
    return [
        Event(
            uid="mirror-cleaning@example.org",
            title="Mirror cleaning",
            start=_at(date(2027, 1, 7), 11),
            rule="FREQ=WEEKLY;BYDAY=TH",
            end=_at(date(2027, 1, 7), 12),
            location="East dome",
            categories=("upkeep",),
        ),
        Event(
            uid="shutter@example.org",
            title="East dome closed: shutter",
            start=date(2027, 3, 23),
            end=date(2027, 3, 25),
            categories=("upkeep",),
            colour="slategray",
        ),
        Event(
            uid="clock-night@example.org",
            title="M 81 with wide camera",
            start=_at(date(2027, 3, 27), 22),
            end=_at(date(2027, 3, 28), 3),
            attendees=(Attendee("ines@example.org"),),
        ),
    ]


def _outreach() -> list[Event]:
    return [
        Event(
            uid="planetarium@example.org",
            title="Planetarium evening",
            start=_at(date(2027, 3, 17), 19),
            end=_at(date(2027, 3, 17), 20, 30),
            location="Hall",
            colour="teal",
        ),
        Event(
            uid="sea-school@example.org",
            title="Planetarium at Sea School",
            start=_at(date(2027, 3, 19), 11, 10),
            end=_at(date(2027, 3, 19), 12, 40),
            location="Sea School, Rua 1, Port Town",
            busy="tentative",
        ),
    ]


def _staff() -> list[Event]:
    return [
        Event(
            uid="council@example.org",
            title="Council call",
            start=_at(date(2027, 3, 16), 10),
            end=_at(date(2027, 3, 16), 11),
            attendees=(Attendee("ana@example.org"), Attendee("rui@example.org", optional=True)),
        ),
        Event(
            uid="ines-away@example.org",
            title="Ines on leave",
            start=date(2027, 3, 25),
            end=date(2027, 3, 27),
            busy="yes",
        ),
    ]


def _write_calendars(folder: Path) -> None:
    for name, events in (("domes", _domes()), ("outreach", _outreach())):
        (folder / name).mkdir(parents=True, exist_ok=True)
        for event in events:
            replace_file(folder / name / f"{event.uid.partition('@')[0]}.ics", write_calendar(event, _STAMP))
    replace_file(folder / "staff.ics", add_events(empty_calendar(), _staff(), _STAMP))
