"""`whenvoca tasks`: the tasks of the lists, the most urgent first."""

from __future__ import annotations

from datetime import date, datetime
from typing import Any
from zoneinfo import ZoneInfo

import click
from msgspec import Struct

from whenvoca.calendars.task import Task
from whenvoca.cli.common import Common, common_options
from whenvoca.cli.show.effects import minutes_before
from whenvoca.cli.show.output import Column, count_of, say, say_next, show_json, show_table, styled
from whenvoca.cli.show.unread import read_pieces
from whenvoca.errors import ExitCode, PlaceTrouble, RequestFault, WhenvocaError
from whenvoca.language.faults import nearest
from whenvoca.open_workspace import OpenWorkspace
from whenvoca.values.zones import load_zone


class ShownTask(Struct, frozen=True):
    """A task with the list that it stands in."""

    task: Task
    place: str


@click.command("tasks")
@click.argument("lists", nargs=-1, metavar="[LIST]...")
@click.option("--all", "with_finished", is_flag=True, help="Finished tasks too.")
@click.option("--section", default="", metavar="NAME", help="Only one section: --section packing.")
@click.option("--person", default="", metavar="NAME", help="Only the tasks of one person: --person tomas.")
@common_options
def command(common: Common, lists: tuple[str, ...], with_finished: bool, section: str, person: str) -> int:
    """Show the open tasks of the lists (all of them, unless some are named), the most urgent first.

    Example: whenvoca tasks chores --person tomas
    """
    opened = common.open()
    zone = load_zone(common.zone) if common.zone else opened.workspace.zone
    now = opened.clock.now().astimezone(zone)
    found, unread = _collect(opened, _choose(opened, lists), zone)
    wanted = opened.workspace.people.find(person) if person else None
    people = {each.lower() for each in (person, wanted.name, wanted.mail)} if wanted else {person.lower()}
    shown = [
        each
        for each in found
        if (with_finished or each.task.finished is None)
        and (not section or each.task.section.lower() == section.lower())
        and (not person or {each.task.person.lower(), each.task.person_mail.lower()} & people - {""})
    ]
    if common.as_json:
        show_json(
            {"zone": zone.key, "tasks": [_to_json(each, zone) for each in shown], "unread": list(map(str, unread))}
        )
    else:
        _show(shown, len(found), now, zone, common)
    for trouble in unread if not common.as_json else ():
        say(f"not shown: {trouble}", style="yellow")
    return max((each.exit_code for each in unread), default=ExitCode.DONE)


def _choose(opened: OpenWorkspace, names: tuple[str, ...]) -> list[str]:
    known = {name.lower(): name for name in opened.places.names() if opened.places.kind_of(name) == "tasks"}
    for name in names:
        if name.lower() not in known:
            raise RequestFault(f'there is no list of tasks "{name}"', fix=nearest(name, known.values()))
    if not known:
        raise RequestFault("there is no list of tasks in whenvoca.toml", fix='a place of kind = "tasks" is one')
    return [known[name.lower()] for name in names] if names else list(known.values())


def _collect(opened: OpenWorkspace, names: list[str], zone: ZoneInfo) -> tuple[list[ShownTask], list[WhenvocaError]]:
    found: list[ShownTask] = []
    unread: list[WhenvocaError] = []
    for name in names:
        try:
            tasks, faults = read_pieces(opened.places.tasks[name.lower()])
        except PlaceTrouble as trouble:
            unread.append(trouble)
            continue
        found += [ShownTask(task, name) for task in tasks if isinstance(task, Task) and not task.cancelled]
        unread += faults
    return sorted(found, key=lambda each: (each.task.end is None, each.task.span(zone)[1], each.task.title)), unread


def _show(shown: list[ShownTask], count: int, now: datetime, zone: ZoneInfo, common: Common) -> None:
    if not shown:
        say("no open task" if count else "no task")
        if count:
            say_next("finished ones too: whenvoca tasks --all", quiet=common.quiet)
        return
    columns = [Column("due"), Column("title", wraps=True), Column("section", drop=1), Column("person"), Column("list")]
    rows = [
        (_due(each.task, now, zone), each.task.title, each.task.section, each.task.person, each.place) for each in shown
    ]
    show_table(columns, rows)
    open_ones = [each for each in shown if each.task.finished is None]
    late = sum(1 for each in open_ones if _is_late(each.task, now, zone))
    said = f"{count_of(len(open_ones), 'open task')}" + (f", {late} overdue" if late else "")
    say(f"{said}, times in {zone.key}")


def _due(task: Task, now: datetime, zone: ZoneInfo) -> Any:
    if task.finished is not None:
        return styled(f"finished {_said(task.finished, zone)}", "green")
    if task.end is None:
        return f"from {_said(task.start, zone)}" if task.start is not None else ""
    return styled(_said(task.end, zone), "red" if _is_late(task, now, zone) else "")


def _is_late(task: Task, now: datetime, zone: ZoneInfo) -> bool:
    if task.end is None:
        return False
    return task.end < now if isinstance(task.end, datetime) else task.end < now.astimezone(zone).date()


def _said(when: datetime | date, zone: ZoneInfo) -> str:
    if not isinstance(when, datetime):
        return f"{when:%a} {when.day} {when:%b %Y}"
    there = when.astimezone(zone)
    return f"{there:%a} {there.day} {there:%b %Y %H:%M}"


def _to_json(shown: ShownTask, zone: ZoneInfo) -> dict[str, Any]:
    task = shown.task

    def there(value: datetime | date | None) -> datetime | date | None:
        return value.astimezone(zone) if isinstance(value, datetime) else value

    return {
        "uid": task.uid,
        "title": task.title,
        "list": shown.place,
        "start": there(task.start),
        "due": there(task.end),
        "whole_day": task.is_whole_day,
        "finished": there(task.finished),
        "section": task.section,
        "person": task.person,
        "person_mail": task.person_mail,
        "details": task.details,
        "priority": task.priority,
        "reminders": [minutes_before(each) for each in task.alarms],
        "source": task.source,
    }
