"""`whenvoca explain`: why a run did what it did, and why a row or event made none."""

from __future__ import annotations

from typing import Any

import click

from whenvoca.cli.common import Common, common_options
from whenvoca.cli.show.effects import effect_to_json, tell_change
from whenvoca.cli.show.output import OUTCOME_STYLES, console, say_next, show_json, styled
from whenvoca.cli.subject_options import parse_event, parse_keys, parse_rows, runs_argument
from whenvoca.engine.explaining import Explanation, StepTrace, explain_request, explain_run, explain_subject
from whenvoca.engine.ledger.protocol import Ledger
from whenvoca.engine.place_protocols import Source
from whenvoca.engine.running.open_program import open_program
from whenvoca.engine.running.run_options import SubjectChoice
from whenvoca.engine.workspace.checking import CheckResult
from whenvoca.errors import RequestFault
from whenvoca.language.faults import nearest
from whenvoca.open_workspace import OpenWorkspace

_LONGEST = 100  # signs of a field's value
_MESSAGES, _EMAILS = ("message",), ("email", "invitation")  # subjects that are found by their words


@click.command("explain")
@runs_argument
@click.option("--row", "rows", default="", metavar="ROWS", help="Why these rows ran or did not: --row 7.")
@click.option("--key", "keys", multiple=True, metavar="KEYS", help="The same, by their keys: --key R-101,R-102.")
@click.option("--event", "events", multiple=True, metavar="UID", help="Why this event made a run or made none.")
@click.option("--message", default="", metavar="WORDS", help="Why the messages with these words made a run or none.")
@click.option("--email", default="", metavar="WORDS", help="The same for emails, by words of sender or subject.")
@click.option("--workflow", default="", metavar="NAME", help="For one workflow only.")
@common_options
def command(
    common: Common,
    runs: tuple[int, ...],
    rows: str,
    keys: tuple[str, ...],
    events: tuple[str, ...],
    message: str,
    email: str,
    workflow: str,
) -> int:
    """Tell runs step by step: what it was about, each condition with its values, each field, each effect.

    With --row, --key, --event, --message or --email: which workflow looked at it, which condition did not hold and
    with which values.

    Example: whenvoca explain 14
    """
    if sum(1 for given in (runs, rows, keys, events, message, email) if given) != 1:
        raise RequestFault(
            "say what is to be explained: a run's number, --row 7, --key R-101, --event UID, --message WORDS, or "
            "--email WORDS"
        )
    opened = common.open()
    opened.places.only_look()
    result = opened.check([workflow] if workflow else ())
    with opened.copied_ledger() as ledger:
        told = (
            [_of_run(opened, result, ledger, run) for run in runs]
            if runs
            else _of_subjects(
                opened,
                result,
                ledger,
                SubjectChoice(parse_rows(rows), frozenset(parse_keys(keys))),
                tuple(map(parse_event, events)),
                message or email,
                _MESSAGES if message else _EMAILS if email else (),
            )
        )
    if common.as_json:
        show_json({"explanations": [_to_json(each) for each in told]})
    else:
        for each in told:
            _show(each)
        if len(runs) == 1 and told[0].outcome == "failed":
            say_next(f"correct it and run again, or: whenvoca retry {runs[0]}", quiet=common.quiet)
        elif len(runs) == 1 and told[0].outcome == "done":
            say_next(f"whenvoca undo {runs[0]} takes it back", quiet=common.quiet)
    return 0


def _of_run(opened: OpenWorkspace, result: CheckResult, ledger: Ledger, number: int) -> Explanation:
    records = ledger.runs(numbers=[number], limit=1)
    if not records:
        raise RequestFault(f"there is no run {number}", fix="whenvoca runs lists them")
    if records[0].kind == "request":
        return explain_request(records[0])
    workflow = next((each for each in result.workflows if each.identity == records[0].workflow), None)
    if workflow is None:
        raise RequestFault(f'run {number} is of "{records[0].workflow}", which is no workflow here any more')
    return explain_run(opened.stage(ledger, opened.places.rehearsed()), records[0], workflow)


def _of_subjects(
    opened: OpenWorkspace,
    result: CheckResult,
    ledger: Ledger,
    choice: SubjectChoice,
    events: tuple[str, ...],
    words: str,
    texts: tuple[str, ...],
) -> list[Explanation]:
    numbers, found = choice.rows, []
    stage = opened.stage(ledger, opened.places.rehearsed())
    asked = {*events, *choice.keys}
    standing: set[str] = set()
    known: set[str] = set()  # keys that there are, or were
    about = texts or (("row",) if numbers or choice.keys else ("event", "task"))
    for workflow in result.workflows:
        if workflow.trigger.definition.subject not in about:
            continue
        program = open_program(workflow, stage)
        for source in program.sources.values():
            noticed = source.observe(opened.clock.now())
            program.take_up(source)
            source.prepare()
            rows_asked = source.keys_of_rows(numbers)
            for number in [number for number, key in rows_asked.items() if key is None]:
                why = next((each for each in [*noticed.faults, *noticed.waits] if f"{number}:" in each), "")
                reason = why or "there is no such row with data"
                found.append(Explanation(workflow.name, f"row {number}", reason=reason))
            keys = [
                *events,
                *sorted(choice.keys),
                *(key for key in rows_asked.values() if key),
                *(source.keys_with(words) if words else ()),
            ]
            known |= {key for key in asked if _is_known(ledger, workflow.identity, source, key)}
            standing.update(key for key, _ in ledger.standing_sequences(source.name))
            found += [explain_subject(program, source, key) for key in keys]
    if missing := sorted(asked - known) if found else ():
        raise RequestFault(f'there is no {about[0]} "{missing[0]}"', fix=nearest(missing[0], standing))
    if not found:
        raise RequestFault(f"no workflow here is about such {about[0]}s")
    return found


def _is_known(ledger: Ledger, identity: str, source: Source, key: str) -> bool:
    """Whether a subject stands, has stood when the workflow looked, or stands as cancelled."""
    return (
        source.current(key) is not None or ledger.newest(identity, source.name, key) > 0 or source.why_gone(key) != ""
    )


def _show(told: Explanation) -> None:
    out = console()
    head = styled(f"{told.workflow} · {told.subject}", "bold")
    if told.run:
        head.append(f" · run {told.run} ")
        head.append(told.outcome, OUTCOME_STYLES.get(told.outcome, ""))
    if told.happened:
        head.append(f" · {told.happened}")
    out.print(head, soft_wrap=True)
    if told.state:
        out.print("  " + "; ".join(f"{name} {_in_short(value)}" for name, value in told.state.items()), style="dim")
    for each in told.told:
        out.print(_line(each))
    if told.reason and not any(each.kind == "reason" for each in told.told):
        out.print(styled(f"  → {told.reason}", "yellow"))
    out.print()


def _in_short(value: str) -> str:
    """A value on one line, cut where it is long."""
    text = " ".join(value.split())
    return text if len(text) <= _LONGEST else text[: _LONGEST - 1] + "…"


def _line(told: StepTrace) -> Any:
    place = f"{told.line:>4}  " if told.line else "      "
    values = "; ".join(f"{name} {value}" for name, value in told.values)
    match told.kind:
        case "condition":
            mark = "holds" if told.holds else "does not hold"
            line = styled(f"{place}{told.text}  → ", "")
            line.append(mark, "green" if told.holds else "red")
            line.append(f" ({values})" if values else "", "dim")
            return line
        case "step":
            line = styled(f"{place}{told.text}", "bold")
            for name, value in told.values:
                line.append(f"\n        {name}  ", "not bold cyan")
                line.append(value, "not bold")
            return line
        case "effect":
            assert told.effect is not None
            told_change = tell_change(told.effect).replace("\n", "; ")
            return styled(f"      → {told.effect.verb} in {told.effect.place}: {told_change}", "green")
    return styled(f"      → failed: {told.text}", "red")


def _to_json(told: Explanation) -> dict[str, Any]:
    return {
        "workflow": told.workflow,
        "subject": told.subject,
        "run": told.run or None,
        "outcome": told.outcome,
        "happened": told.happened,
        "reason": told.reason,
        "fields": told.state,
        "told": [
            {
                "kind": each.kind,
                "line": each.line or None,
                "text": each.text,
                "values": dict(each.values),
                "holds": each.holds,
                "effect": effect_to_json(each.effect) if each.effect else None,
            }
            for each in told.told
        ],
    }
