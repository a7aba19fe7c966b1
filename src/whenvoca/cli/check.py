"""`whenvoca check`: all faults at once, and what each workflow would run for first."""

from __future__ import annotations

from typing import Any

import click

from whenvoca.cli.common import Common, common_options
from whenvoca.cli.show.faults import fault_to_json, show_fault
from whenvoca.cli.show.output import count_of, say, say_next, show_json, show_line
from whenvoca.engine.rehearsing.previewing import Preview, preview
from whenvoca.engine.workspace.checking import CheckResult
from whenvoca.errors import ExitCode
from whenvoca.open_workspace import OpenWorkspace

_MOST_LEFT_OUT = 12


@click.command("check")
@click.argument("workflows", nargs=-1, metavar="[WORKFLOW|FILE]...")
@common_options
def command(common: Common, workflows: tuple[str, ...]) -> int:
    """Find all faults of the workspace and its workflows at once, and show what each would run for first.

    Headings and columns are read from the real sheets. Exit status 1 if there is a fault.

    Example: whenvoca check slot-requests
    """
    opened = common.open(with_root=True)
    if opened.new_root:
        say(f"the workspace had no root of identities; written into whenvoca.toml: {opened.new_root}")
    result = opened.check(workflows)
    seen = _look(opened, result)
    if common.as_json:
        show_json(_to_json(result, seen))
    else:
        _show(result, seen, common)
    return ExitCode.FAILED if result.all_faults else ExitCode.DONE


def _look(opened: OpenWorkspace, result: CheckResult) -> Preview:
    """What each workflow that is ok would run for, by its file."""
    faulty = {fault.file for fault in result.hard_faults}
    sound = [workflow for workflow in result.workflows if workflow.file not in faulty]
    with opened.copied_ledger() as ledger:
        return preview(opened.stage(ledger), sound, opened.names())


def _show(result: CheckResult, seen: Preview, common: Common) -> None:
    for faults in result.faults.values():
        for fault in faults:
            show_fault(fault)
    for warning in result.warnings:
        say(f"note: {warning}")
    for said in seen.notes:
        say(f"note: {said}", style="yellow")
    for said in seen.left_out[:_MOST_LEFT_OUT]:
        say(f"cannot run: {said}", style="yellow")
    if len(seen.left_out) > _MOST_LEFT_OUT:
        say(f"and {len(seen.left_out) - _MOST_LEFT_OUT} more rows that cannot run", style="yellow")
    for workflow in result.workflows:
        faults = result.faults.get(workflow.file, ())
        if not faults:
            taken = seen.waiting.get(workflow.file, [])
            first = ", ".join(taken[:5]) + (f" and {len(taken) - 5} more" if len(taken) > 5 else "")
            show_line(("ok      ", "green"), f"{workflow.name}: would run for {first or 'nothing'}")
        elif not any(not fault.in_data for fault in faults):
            show_line(("doubtful", "yellow"), f" {workflow.name}: rows with doubtful cells wait")
        else:
            show_line(("faulty  ", "bold red"), f"{workflow.name}: {count_of(len(faults), 'fault')}")
    for file, faults in result.faults.items():
        if faults and not any(workflow.file == file for workflow in result.workflows):
            show_line(("faulty  ", "bold red"), file)
    if not result.workflows and not result.all_faults:
        show_line("there is no workflow yet")
        say_next("write one into workflows/, or look at one: whenvoca demo", quiet=common.quiet)
    elif not result.all_faults:
        say_next("whenvoca run", quiet=common.quiet)
    else:
        say_next("fix what is marked, then: whenvoca check", quiet=common.quiet)


def _to_json(result: CheckResult, seen: Preview) -> dict[str, Any]:
    return {
        "ok": not result.all_faults,
        "workflows": [
            {
                "name": workflow.name,
                "file": workflow.file,
                "title": workflow.settings.title,
                "ok": is_ok,
                "would_run_for": seen.waiting.get(workflow.file, []),
                "sound": is_ok,  # old names, until 0.2
                "would_take_up": seen.waiting.get(workflow.file, []),
            }
            for workflow in result.workflows
            for is_ok in [all(fault.in_data for fault in result.faults.get(workflow.file, ()))]
        ],
        "faults": [fault_to_json(fault) for fault in result.all_faults],
        "warnings": [*result.warnings, *seen.notes],
        "cannot_run": seen.left_out,
        "not_taken_up": seen.left_out,  # its old name, until 0.2
    }
