"""`whenvoca report`: where the time went, by what one chooses."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

import click
from msgspec.structs import replace

from whenvoca.cli.agenda import choose_calendars, collect
from whenvoca.cli.common import Common, common_options, parse_moment
from whenvoca.cli.show.hours import show_hours, show_used
from whenvoca.cli.show.output import say, show_json
from whenvoca.cli.show.run_figures import runs_to_json, show_runs_report
from whenvoca.engine.alterations import find_alterations
from whenvoca.engine.things.event import event_type
from whenvoca.engine.things.task import to_thing
from whenvoca.errors import ExitCode, RequestFault, WhenvocaError
from whenvoca.language.faults import nearest
from whenvoca.language.filters import read_filter
from whenvoca.open_workspace import OpenWorkspace
from whenvoca.reports.against import EARLIER, beside, earlier_period
from whenvoca.reports.hours import ALTERED, BY, COMPARED, MEASURES, Alteration, Booking, Reckoning, add_up
from whenvoca.reports.hours_words import to_csv, to_json
from whenvoca.reports.offered import Offer, read_offer, use_of
from whenvoca.reports.runs import add_up_runs
from whenvoca.values.zones import first_moment, load_zone

_USUAL = (("week",), ("location",), ("person",), ("title",))
_USUAL_MEASURES = MEASURES[:3]
_A_MONTH = timedelta(days=31)


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
@click.option(
    "--against", type=click.Choice(EARLIER), help="Beside the time of the same length before, or a year earlier."
)
@click.option(
    "--offered", default="", metavar="HOURS", help="How much was used of hours on offer: --offered 20:00-05:00."
)
@click.option("--runs", is_flag=True, help="How the runs of that time went instead, by workflow and by day.")
@click.option("--csv", "as_csv", is_flag=True, help="As CSV: a line for each line of each table.")
@click.option("--html", type=click.Path(dir_okay=False, path_type=Path), metavar="FILE", help="As a page of its own.")
@click.option("--xlsx", type=click.Path(dir_okay=False, path_type=Path), metavar="FILE", help="As a workbook.")
@click.option("--png", type=click.Path(dir_okay=False, path_type=Path), metavar="FILE", help="As a picture.")
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
    against: str | None,
    offered: str,
    runs: bool,
    as_csv: bool,
    html: Path | None,
    xlsx: Path | None,
    png: Path | None,
) -> int:
    """Show where the time of calendars went (of all of them, unless some are named).

    Example: whenvoca report domes --from "last month" --by location,person
    """
    opened = common.open()
    zone = load_zone(common.zone) if common.zone else opened.workspace.zone
    low, high = _period(opened, begin, until, zone)
    if runs:
        return _report_runs(opened, low, high, zone, common)
    tables, measures = _tables(by), _measures(measure)
    names = choose_calendars(opened, calendars)
    offer = _offer(offered)
    fits = read_filter(where, event_type(), opened.clock.now(), zone, "--where") if where else lambda thing: True
    how = Reckoning(
        zone,
        low,
        high,
        counting=counting,
        whole_days=whole_days,
        free=free,
        tentative=not not_tentative,
        names=opened.workspace.people.by_mail,
        first_weekday=opened.workspace.first_weekday,
    )
    bookings, unread = _bookings(opened, names, how, fits)
    alterations = _alterations(opened, names, low, high, fits) if set(measures) & set(ALTERED) else None
    report = add_up(bookings, tables, how, alterations)
    if against:
        begin_then, end_then = earlier_period(low, high, zone, against)
        then = replace(how, begin=begin_then, end=end_then)
        earlier, more = _bookings(opened, names, then, fits)
        report, measures = beside(report, add_up(earlier, tables, then)), [*measures, *COMPARED]
        unread += [each for each in more if str(each) not in set(map(str, unread))]
    used = use_of(bookings, offer, how) if offer is not None else None
    title = f"{opened.workspace.name}: where the time went"
    if html is not None or xlsx is not None or png is not None:
        if html is not None:
            from whenvoca.reports.hours_html import render_hours

            _write(html, render_hours(report, measures, title, zone, names).encode())
        if xlsx is not None:
            from whenvoca.reports.hours_xlsx import write_hours

            _write(xlsx, write_hours(report, measures, title, zone))
        if png is not None:
            from whenvoca.reports.hours_png import draw_hours

            draw_hours(report, title, zone, png)
            say(f"written: {png}")
    elif common.as_json:
        show_json(to_json(report, measures, [str(each) for each in unread], used))
    elif as_csv:
        click.echo(to_csv(report, measures), nl=False)
    else:
        show_hours(report, measures, zone, common)
        if used is not None:
            show_used(used, offered)
    for trouble in unread if not common.as_json else ():
        say(f"not counted: {trouble}", style="yellow")
    return max((each.exit_code for each in unread), default=ExitCode.DONE)


def _report_runs(opened: OpenWorkspace, low: datetime, high: datetime, zone: ZoneInfo, common: Common) -> int:
    with opened.copied_ledger() as ledger:
        ends = ledger.run_ends(*(each.astimezone(UTC).isoformat() for each in (low, high)))
        report = add_up_runs(ends, zone)
    if common.as_json:
        show_json(runs_to_json(report, low, high))
    else:
        show_runs_report(report, low, high, zone)
    return ExitCode.DONE


def _write(path: Path, data: bytes) -> None:
    try:
        path.write_bytes(data)
    except OSError as error:
        raise RequestFault(f"the report cannot be written: {error.strerror}", where=str(path)) from error
    say(f"written: {path}")


def _bookings(
    opened: OpenWorkspace, names: list[str], how: Reckoning, fits: Callable[[Any], bool]
) -> tuple[list[Booking], list[WhenvocaError]]:
    """What stands in the calendars, and what could not be read."""
    shown, unread = collect(opened, names, how.begin, how.end, how.zone)
    found = []
    for each in shown:
        zone = opened.places.calendars[each.calendar.lower()].zone
        if fits(to_thing(each.event, each.calendar, "", zone)):
            found.append(Booking.of(each.event, each.calendar, zone))
    return found, unread


def _offer(text: str) -> Offer | None:
    if text and (offer := read_offer(text)) is None:
        raise RequestFault(f'--offered: "{text}" are no hours of a day', fix="such as --offered 20:00-05:00")
    return offer if text else None


def _alterations(
    opened: OpenWorkspace, names: Sequence[str], low: datetime, high: datetime, fits: Callable[[Any], bool]
) -> list[Alteration] | None:
    zones = {name: opened.places.calendars[name.lower()].zone for name in names}
    with opened.copied_ledger() as ledger:
        return find_alterations(
            ledger, zones, low, high, lambda name, event: fits(to_thing(event, name, "", zones[name]))
        )


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
    except RequestFault as fault:
        found = period_of(text, now.replace(tzinfo=None), opened.workspace.dates)
        if found is None:
            raise RequestFault(fault.message, fix='such as 2027-03-01, or "last month"') from None
        return first_moment(found[0], zone), first_moment(found[1], zone)
    if moment > now:
        return moment, first_moment(moment.date() + _A_MONTH, zone)
    return moment, first_moment(now.date() + timedelta(days=1), zone)


def _tables(by: str) -> list[tuple[str, ...]]:
    """What `--by` names: tables, each by one thing or by two that are crossed."""
    if not by.strip():
        return list(_USUAL)
    found = []
    for piece in filter(str.strip, by.split(",")):
        parts = tuple(each.strip().lower() for each in piece.split(" with "))
        for each in parts:
            if each not in BY:
                raise RequestFault(f'--by: there is no "{each}"', fix=f"one of: {', '.join(BY)}")
        if len(parts) > 2 or len(set(parts)) < len(parts):
            raise RequestFault(f'--by: "{piece.strip()}" are not two different things', fix='--by "month with person"')
        found.append(parts)
    return found


def _measures(text: str) -> list[str]:
    found = [each.strip().lower() for each in text.split(",") if each.strip()]
    for each in found:
        if each not in MEASURES:
            raise RequestFault(f'--measure: there is no "{each}"', fix=nearest(each, MEASURES))
    return found or list(_USUAL_MEASURES)
