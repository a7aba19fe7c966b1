"""`whenvoca agenda`: the calendars as a list, a week grid, a page or a picture."""

from __future__ import annotations

from datetime import date, datetime, timedelta
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

import click

from whenvoca.calendars.event import Event
from whenvoca.calendars.recurrence import expand_events
from whenvoca.cli.common import Common, common_options, parse_moment
from whenvoca.cli.show.clashes import show_clashes
from whenvoca.cli.show.effects import minutes_before
from whenvoca.cli.show.output import Column, console, say, say_next, show_json, show_table, styled
from whenvoca.cli.show.unread import read_pieces
from whenvoca.cli.show.week_grid import show_week
from whenvoca.errors import ExitCode, PlaceTrouble, RequestFault, SourceFault, WhenvocaError
from whenvoca.language.faults import nearest
from whenvoca.open_workspace import OpenWorkspace
from whenvoca.reports.week import ShownEvent, lay_out_week, monday_of
from whenvoca.values.zones import first_moment, load_zone

_DAYS = 14


@click.command("agenda")
@click.argument("calendars", nargs=-1, metavar="[CALENDAR]...")
@click.option("--from", "begin", default="", metavar="DATE", help="The first day; today otherwise: --from 2027-03-15.")
@click.option(
    "--until", default="", metavar="DATE", help="The first day not shown; 14 days on otherwise: --until 2027-04-01."
)
@click.option("--week", is_flag=True, help="The week of that day as a grid.")
@click.option(
    "--png",
    type=click.Path(dir_okay=False, path_type=Path),
    metavar="FILE",
    help="The week as a picture: --png week.png.",
)
@click.option(
    "--html",
    type=click.Path(dir_okay=False, path_type=Path),
    metavar="FILE",
    help="The week as a page: --html week.html.",
)
@click.option("--clashes", is_flag=True, help="What is booked twice: in a calendar, at a location, for a person.")
@common_options
def command(
    common: Common,
    calendars: tuple[str, ...],
    begin: str,
    until: str,
    week: bool,
    png: Path | None,
    html: Path | None,
    clashes: bool,
) -> int:
    """Show what stands in the calendars (all of them, unless some are named).

    Example: whenvoca agenda domes --from 2027-03-15 --week
    """
    opened = common.open()
    zone = load_zone(common.zone) if common.zone else opened.workspace.zone
    today = opened.clock.now().astimezone(zone).date()
    first = _day(begin, zone, "--from") if begin else today
    names = choose_calendars(opened, calendars)
    if week or png or html:
        first = monday_of(first, opened.workspace.week_starts)
        last = first + timedelta(days=7)
    else:
        last = _day(until, zone, "--until") if until else first + timedelta(days=_DAYS)
    if last <= first:
        raise RequestFault(
            "--until is not later than --from", fix="--until is the first day that is not shown any more"
        )
    shown, unread = collect(opened, names, first_moment(first, zone), first_moment(last, zone), zone)
    if clashes and (week or png or html):
        raise RequestFault("--clashes is a list", fix="leave out --week, --png and --html")
    if clashes:
        show_clashes(opened, shown, zone, unread, as_json=common.as_json)
    elif png or html:
        _draw(opened, shown, names, first, zone, today, png, html, common)
    elif common.as_json:
        show_json(
            {
                "from": first_moment(first, zone),
                "until": first_moment(last, zone),
                "zone": zone.key,
                "events": [_to_json(each, zone) for each in shown],
                "unread": [str(each) for each in unread],
            }
        )
    elif week:
        show_week(lay_out_week(shown, first, zone), names, zone, today)
    else:
        _show_list(shown, first, last, zone, common)
    for trouble in unread if not common.as_json else ():
        say(f"not shown: {trouble}", style="yellow")
    return max((each.exit_code for each in unread), default=ExitCode.DONE)


def _day(text: str, zone: ZoneInfo, option: str) -> date:
    return parse_moment(text, zone, option).astimezone(zone).date()


def choose_calendars(opened: OpenWorkspace, names: tuple[str, ...]) -> list[str]:
    """The calendars of these names, or all. Raises RequestFault for a name that none has."""
    known = {name.lower(): name for name in opened.places.names() if opened.places.kind_of(name) == "calendar"}
    if not names:
        return list(known.values())
    for name in names:
        if name.lower() not in known:
            raise RequestFault(f'there is no calendar "{name}"', fix=nearest(name, known.values()))
    return [known[name.lower()] for name in names]


def collect(
    opened: OpenWorkspace, names: list[str], low: datetime, high: datetime, zone: ZoneInfo
) -> tuple[list[ShownEvent], list[WhenvocaError]]:
    """What stands there, and what could not be read: it does not hide the rest."""
    found: list[ShownEvent] = []
    unread: list[WhenvocaError] = []
    for name in names:
        try:
            calendar = opened.places.calendars[name.lower()]
            events = calendar.find_between(low, high)
            unread += [SourceFault(said) for said in calendar.unread]
        except SourceFault:
            pieces, faults = read_pieces(calendar)
            left_out: dict[str, str] = {}
            events = expand_events(pieces, low, high, calendar.zone, left_out)
            unread += [*faults, *map(SourceFault, left_out.values())]
        except PlaceTrouble as trouble:
            unread.append(trouble)
            continue
        found += [ShownEvent(event, name) for event in events if not event.cancelled]
    return sorted(
        found, key=lambda each: (each.event.span(zone)[0], not each.event.is_whole_day, each.event.title)
    ), unread


def _show_list(shown: list[ShownEvent], first: date, last: date, zone: ZoneInfo, common: Common) -> None:
    if not shown:
        say(
            f"nothing from {first.day} {first:%B %Y} to {(last - timedelta(days=1)).day} "
            f"{last - timedelta(days=1):%B %Y}"
        )
        say_next("another time: whenvoca agenda --from DATE", quiet=common.quiet)
        return
    rows: list[tuple[Any, ...]] = []
    previous = None
    for each in shown:
        start, _ = each.event.span(zone)
        day = start.astimezone(zone).date()
        label = f"{day:%a} {day.day} {day:%b} {day.year}" if day != previous else ""
        previous = day
        rows.append(
            (styled(label, "bold"), _span(each.event, zone), _title(each.event), each.event.location, each.calendar)
        )
    show_table(
        [Column("day"), Column("time"), Column("title", wraps=True), Column("location", drop=1), Column("calendar")],
        rows,
    )
    count = len(shown)
    console(err=True).print(f"{count} event{'s' * (count != 1)}, times in {zone.key}")


def _span(event: Event, zone: ZoneInfo) -> str:
    if event.is_whole_day:
        start = event.start if not isinstance(event.start, datetime) else event.start.date()
        return "whole day" if event.last_day == start else f"whole days to {event.last_day.day} {event.last_day:%b}"
    start, end = (moment.astimezone(zone) for moment in event.span(zone))
    days = (end.date() - start.date()).days
    later = "" if days == 0 or (days == 1 and end.time() <= start.time()) else f" {end:%a} {end.day} {end:%b}"
    return f"{start:%H:%M}–{end:%H:%M}{later}"


def _title(event: Event) -> str:
    marks = [
        word
        for word, holds in (("tentative", event.busy == "tentative"), ("repeats", event.occurrence is not None))
        if holds
    ]
    return event.title + (f" ({', '.join(marks)})" if marks else "")


def _to_json(shown: ShownEvent, zone: ZoneInfo) -> dict[str, Any]:
    event = shown.event
    start: datetime | date = event.start
    end: datetime | date = event.end
    return {
        "uid": event.uid,
        "title": event.title,
        "calendar": shown.calendar,
        "start": start.astimezone(zone) if isinstance(start, datetime) else start,
        "end": end.astimezone(zone) if isinstance(end, datetime) else end,
        "zone": getattr(start.tzinfo, "key", "UTC") if isinstance(start, datetime) else None,
        "whole_day": event.is_whole_day,
        "last_day": event.last_day if event.is_whole_day else None,
        "occurrence": event.occurrence,
        "location": event.location,
        "details": event.details,
        "attendees": [each.address for each in event.attendees if not each.optional],
        "optional": [each.address for each in event.attendees if each.optional],
        "answers": event.answers,
        "organizer": event.organizer,
        "busy": event.busy,
        "colour": event.colour,
        "category": list(event.categories),
        "priority": event.priority,
        "private": event.private,
        "reminders": [minutes_before(each) for each in event.alarms],
        "alarms": list(event.alarms),  # its old name, until 0.2
    }


def _draw(
    opened: OpenWorkspace,
    shown: list[ShownEvent],
    names: list[str],
    first: date,
    zone: ZoneInfo,
    today: date,
    png: Path | None,
    html: Path | None,
    common: Common,
) -> None:
    week = lay_out_week(shown, first, zone)
    title = opened.workspace.name
    if png:
        from whenvoca.reports.week_png import draw_week

        draw_week(week, names, zone, title, today, png)
    if html:
        from whenvoca.reports.week_html import render_week

        try:
            html.write_text(render_week(week, names, zone, title, today), encoding="utf-8")
        except OSError as error:
            raise RequestFault(f"the page cannot be written: {error.strerror}", where=str(html)) from error
    written = [str(path) for path in (png, html) if path]
    if common.as_json:
        show_json({"written": written})
    else:
        say(f"written: {', '.join(written)}")
