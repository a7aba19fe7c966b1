"""`whenvoca report`: where the time went, by what one chooses."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

import click

from whenvoca.cli.agenda import choose_calendars, collect
from whenvoca.cli.common import Common, common_options, parse_moment
from whenvoca.cli.show.output import Column, count_of, say, say_next, show_json, show_line, show_table, styled
from whenvoca.engine.alterations import find_alterations
from whenvoca.engine.things.event import event_type
from whenvoca.engine.things.task import to_thing
from whenvoca.errors import ExitCode, RequestFault
from whenvoca.language.faults import nearest
from whenvoca.language.filters import read_filter
from whenvoca.open_workspace import OpenWorkspace
from whenvoca.reports.hours import ALTERED, BY, MEASURES, Alteration, Booking, HoursTable, Reckoning, Report, add_up
from whenvoca.reports.hours_words import (
    SHARED_NOTE,
    hours_of,
    is_timed,
    label_of,
    said_altered,
    said_figure,
    said_left_out,
    said_period,
    to_csv,
    to_json,
)
from whenvoca.values.weekdays import NAMES
from whenvoca.values.zones import first_moment, load_zone

_USUAL = (("week",), ("location",), ("person",), ("title",))
_USUAL_MEASURES = MEASURES[:3]
_MOST_LINES = 10
_A_MONTH = timedelta(days=31)
_BAR = 24  # signs of the longest bar
_EIGHTHS = "▏▎▍▌▋▊▉█"


@click.command("report")
@click.argument("calendars", nargs=-1, metavar="[CALENDAR]...")
@click.option(
    "--from",
    "begin",
    default="",
    metavar="DAY",
    help='The first day, or a period: --from "last month"; this month otherwise.',
)
@click.option("--until", default="", metavar="DAY", help="The first day that does not count any more.")
@click.option(
    "--by",
    default="",
    metavar="WHAT",
    help=f'A table each, or two crossed: --by week,location, --by "month with person". One of: {", ".join(BY)}.',
)
@click.option(
    "--measure", default=",".join(MEASURES[:3]), metavar="WHAT", help=f"Which columns: {', '.join(MEASURES)}."
)
@click.option("--where", default="", metavar="CONDITION", help="Only these events: --where 'category is \"school\"'.")
@click.option(
    "--count", "counting", type=click.Choice(["divided", "start"]), default="divided",
    help="Whether an event over midnight or a month's end is divided, or counts whole where it begins.",
)  # fmt: skip
@click.option("--whole-days", is_flag=True, help="Count events of whole days too, each day with its hours.")
@click.option("--free", is_flag=True, help="Count events too that take no time.")
@click.option("--not-tentative", is_flag=True, help="Leave tentative events out.")
@click.option("--csv", "as_csv", is_flag=True, help="As CSV: a line for each line of each table.")
@click.option("--html", type=click.Path(dir_okay=False, path_type=Path), metavar="FILE", help="As a page of its own.")
@common_options
def command(
    common: Common,
    calendars: tuple[str, ...],
    begin: str,
    until: str,
    by: str,
    measure: str,
    where: str,
    counting: Any,
    whole_days: bool,
    free: bool,
    not_tentative: bool,
    as_csv: bool,
    html: Path | None,
) -> int:
    """Show where the time of calendars went (of all of them, unless some are named).

    Example: whenvoca report domes --from "last month" --by location,person
    """
    opened = common.open()
    zone = load_zone(common.zone) if common.zone else opened.workspace.zone
    low, high = _period(opened, begin, until, zone)
    tables, measures = _tables(by), _measures(measure)
    names = choose_calendars(opened, calendars)
    shown, unread = collect(opened, names, low, high, zone)
    fits = read_filter(where, event_type(), opened.clock.now(), zone, "--where") if where else lambda thing: True
    bookings = []
    for each in shown:
        calendar = opened.places.calendars[each.calendar.lower()]
        if fits(to_thing(each.event, each.calendar, "", calendar.zone)):
            bookings.append(Booking.of(each.event, each.calendar, calendar.zone))
    how = Reckoning(
        zone,
        low,
        high,
        counting=counting,
        whole_days=whole_days,
        free=free,
        tentative=not not_tentative,
        names={each.mail.lower(): each.name for each in opened.workspace.people.persons.values() if each.mail},
        week_starts=NAMES.index(opened.workspace.week_starts.lower()),
    )
    alterations = _alterations(opened, names, low, high, fits) if set(measures) & set(ALTERED) else None
    report = add_up(bookings, tables, how, alterations)
    if html is not None:
        from whenvoca.reports.hours_html import render_hours

        title = f"{opened.workspace.name}: where the time went"
        try:
            html.write_text(render_hours(report, measures, title, zone, names), encoding="utf-8")
        except OSError as error:
            raise RequestFault(f"the page cannot be written: {error.strerror}", where=str(html)) from error
        say(f"written: {html}")
    elif common.as_json:
        show_json(to_json(report, measures, [str(each) for each in unread]))
    elif as_csv:
        click.echo(to_csv(report, measures), nl=False)
    else:
        _show(report, measures, zone, common)
    for trouble in unread if not common.as_json else ():
        say(f"not counted: {trouble}", style="yellow")
    return max((each.exit_code for each in unread), default=ExitCode.DONE)


def _alterations(
    opened: OpenWorkspace, names: Sequence[str], low: datetime, high: datetime, fits: Callable[[Any], bool]
) -> list[Alteration] | None:
    """What was moved and called off, as far as the ledger has seen it; None where it never looked at one of these."""
    found: list[Alteration] = []
    with opened.copied_ledger() as ledger:
        for name in names:
            zone = opened.places.calendars[name.lower()].zone
            seen = find_alterations(ledger, name, low, high, zone)
            if seen is None:
                return None
            found += [each for each in seen if fits(to_thing(each.booking.event, name, "", zone))]
    return found


def _period(opened: OpenWorkspace, begin: str, until: str, zone: ZoneInfo) -> tuple[datetime, datetime]:
    """The first moment that counts, and the first one behind. Raises RequestFault."""
    low, high = _end(opened, begin or "this month", zone, "--from")
    if until:
        high = _end(opened, until, zone, "--until")[0]
    if high <= low:
        raise RequestFault(
            "--until is not later than --from", fix="--until is the first day that does not count any more"
        )
    return low, high


def _end(opened: OpenWorkspace, text: str, zone: ZoneInfo, option: str) -> tuple[datetime, datetime]:
    """A day, or a period by its name: its first moment, and the first one behind it; a day alone is open until now, one
    in time to come for a month."""
    from whenvoca.speech.periods import period_of

    now = opened.clock.now().astimezone(zone)
    try:
        moment = parse_moment(text, zone, option)
    except RequestFault:
        found = period_of(text, now.replace(tzinfo=None), opened.workspace.dates)
        if found is None:
            raise
        return first_moment(found[0], zone), first_moment(found[1], zone)
    if moment > now:
        return moment, first_moment(moment.date() + _A_MONTH, zone)
    return moment, first_moment(now.date() + timedelta(days=1), zone)


def _tables(by: str) -> list[tuple[str, ...]]:
    """What `--by` names: tables, each by one thing or by two that are crossed."""
    if not by.strip():
        return list(_USUAL)
    found = []
    for piece in by.split(","):
        parts = tuple(each.strip().lower() for each in piece.split(" with "))
        for each in parts:
            if each not in BY:
                raise RequestFault(f'--by: there is no "{each}"', fix=f"one of: {', '.join(BY)}")
        if len(parts) > 2 or len(set(parts)) < len(parts):
            raise RequestFault(
                f'--by: "{piece.strip()}" crosses more than two different things', fix='--by "month with person"'
            )
        found.append(parts)
    return found


def _measures(text: str) -> list[str]:
    found = [each.strip().lower() for each in text.split(",") if each.strip()]
    for each in found:
        if each not in MEASURES:
            raise RequestFault(f'--measure: there is no "{each}"', fix=nearest(each, MEASURES))
    return found or list(_USUAL_MEASURES)


def _show(report: Report, measures: Sequence[str], zone: ZoneInfo, common: Common) -> None:
    total = f"{hours_of(report.seconds):g} hours in {count_of(report.count, 'event')}"
    altered = f", {said}" if (said := said_altered(report)) else ""
    show_line((f"{said_period(report, zone)}, {zone.key}: {total}{altered}", "bold"))
    for table in report.tables:
        _show_table(table, report, measures, every=common.verbose)
    if left_out := said_left_out(report):
        show_line((f"left out: {left_out}", ""))
    if not report.count:
        say_next('another period: whenvoca report --from "last month"', quiet=common.quiet)


def _show_table(table: HoursTable, report: Report, measures: Sequence[str], *, every: bool) -> None:
    rows = table.rows if every else table.rows[:_MOST_LINES] if not is_timed(table) else table.rows
    most = max((row.seconds for row in table.rows), default=0)
    columns = [Column(name) for name in table.by]
    columns += [Column(name, align="right") for name in measures] + [Column("", drop=1)]
    lines = [
        (
            *map(label_of, table.by, row.labels),
            *(said_figure(each, row, report) for each in measures),
            styled(_bar(row.seconds, most), "cyan"),
        )
        for row in rows
    ]
    if lines:
        click.echo()
        show_table(columns, lines)
    if len(rows) < len(table.rows):
        show_line((f"and {len(table.rows) - len(rows)} more; all of them: --verbose", "dim"))
    if table.is_shared:
        show_line((SHARED_NOTE, "dim"))


def _bar(seconds: int, most: int) -> str:
    """A bar that can be read without colour."""
    eighths = round(seconds / most * _BAR * 8) if most else 0
    return "█" * (eighths // 8) + (_EIGHTHS[eighths % 8 - 1] if eighths % 8 else "")
