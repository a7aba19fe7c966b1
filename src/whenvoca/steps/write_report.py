"""The step `write report of CALENDARS`: where the time went, as a file to hand on and as figures to go on with."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from datetime import datetime
from pathlib import PurePosixPath
from typing import Any

from whenvoca.engine.acting.keyed import Acting
from whenvoca.engine.acting.step_call import StepCall
from whenvoca.engine.things.report import ReportThing, report_type
from whenvoca.errors import RowFault
from whenvoca.language.definitions import FieldDefinition, Sentence, StepDefinition
from whenvoca.language.faults import Spot
from whenvoca.reports.hours import ALTERED, BY, MEASURES, Booking, Reckoning, Report, add_up
from whenvoca.reports.hours_html import GENERATOR, render_hours
from whenvoca.reports.hours_words import CSV_HEADINGS, figure_of, to_csv, to_rows
from whenvoca.steps.looking_up import look_up
from whenvoca.steps.published_files import PUBLISH_EFFECT, publish
from whenvoca.steps.windows import window
from whenvoca.values.numbers import tidy_number

_USUAL = ("week", "location", "person", "title")
_FORMS = ("html", "csv")


def _act(call: StepCall) -> Acting:
    measures = [each.lower() for each in call.value("measure", MEASURES[:3])]
    report = _reckon(call, measures)
    name = call.text("into")
    ending = PurePosixPath(name).suffix.lower().removeprefix(".")
    form = call.text("as").lower() or ending
    if form not in _FORMS or ending != form:
        wanted = f".{form}" if form in _FORMS else " or ".join(f".{each}" for each in _FORMS)
        raise RowFault(f'"{name}" does not end in {wanted}', fix='such as "reports/hours.html"')
    calendars = ", ".join(call.calendars)
    if form == "html":
        title = f"{call.stage.workspace.name}: where the time went"
        text = render_hours(report, measures, title, call.scope.zone, call.calendars)
    else:
        text = to_csv(report, measures)
    total = report.whole
    holds = f"{figure_of('hours', total, report):g} hours in {report.count:,} events of {calendars}"
    yield from publish(call, name, text.encode(), holds, is_ours=_is_ours)
    figures = {each: figure_of(each, total, report) for each in MEASURES if each != "share"}
    return ReportThing(name, text.encode(), _exact(figures), [_exact(each) for each in to_rows(report, measures)])


def _exact(fields: Mapping[str, Any]) -> dict[str, Any]:
    """The same with numbers as workflows have them."""
    return {name: tidy_number(each) if isinstance(each, float) else each for name, each in fields.items()}


def _reckon(call: StepCall, measures: list[str]) -> Report:
    low, high = _span(call)
    bookings = []
    for each in look_up(call, low, high):
        place: str = each.place  # type: ignore[attr-defined]  # they are events
        bookings.append(Booking.of(each.event, place, call.stage.calendar(place).zone))  # type: ignore[attr-defined]
    workspace = call.stage.workspace
    how = Reckoning(call.scope.zone, low, high, names=workspace.people.by_mail, first_weekday=workspace.first_weekday)
    tables = [(each.lower(),) for each in call.value("by", _USUAL)]
    is_wanted = bool(set(measures) & set(ALTERED))
    altered = call.stage.alterations(call.calendars, low, high, call.where.fits) if is_wanted else None
    return add_up(bookings, tables, how, altered)


def _span(call: StepCall) -> tuple[datetime, datetime]:
    low, high = window(call)
    if low is None or high is None:
        raise RowFault("from and until are empty", fix="say from when until when it tells")
    return low, high


def _is_ours(data: bytes) -> bool:
    """Whether a file is a report."""
    return f'content="{GENERATOR}"'.encode() in data or data.startswith(",".join(CSV_HEADINGS).encode() + b",")


def _check(given: Mapping[str, Spot]) -> Iterator[tuple[str, str, str]]:
    for word in ("from", "until"):
        if word not in given:
            yield "", f"{word} is missing", "say from when until when it tells"
    if "into" not in given:
        yield "", "into is missing", 'say into which file: into "reports/hours.html"'


def _choices(name: str, choices: tuple[str, ...], default: str, meaning: str, **more: Any) -> FieldDefinition:
    return FieldDefinition(name, "choices", meaning, choices=choices, default=default, **more)


WRITE_REPORT = StepDefinition(
    sentence=Sentence("write report of CALENDARS"),
    meaning="Adds up where the time of calendars went between two moments, and writes it into a file of the workspace: "
    "a page of its own, or CSV. As NAME it has hours, count, moved, called-off, its lines as rows (table, label and "
    "the figures), and file, and it can be attached to an email. Events are divided at midnight; whole days and what "
    "takes no time do not count. The same figures give the same file; one that somebody else made is never written "
    "over.",
    fields=(
        FieldDefinition("from", "moment", "The first moment that counts.", example="today - 7 days"),
        FieldDefinition("until", "moment", "The first moment that does not count any more.", example="today"),
        FieldDefinition(
            "where", "condition", "Which events count, by their own fields.", example='category is "school"'
        ),
        _choices("by", BY, ", ".join(_USUAL), "A table for each of these.", example="location, person"),
        _choices(
            "measure",
            MEASURES,
            "hours, count, share",
            "The columns. What was moved and called off counts from the first look at the calendar on, and belongs to "
            "the time that an event had.",
            example="hours, moved, called-off",
        ),
        FieldDefinition(
            "as", "choice", "As what it is written; as the file's ending says unless said.", choices=_FORMS
        ),
        FieldDefinition("into", "text", "The file in the workspace.", example='"reports/hours.html"'),
    ),
    thing="event",
    looks_up=True,
    watches=True,
    makes=report_type,
    check_fields=_check,
    effects=(PUBLISH_EFFECT,),
    example="write report of domes as page\n  from     today - 7 days\n  until    today\n  by       location, person\n"
    '  measure  hours, moved, called-off\n  into     "reports/week.html"',
    act=_act,
)
