"""`whenvoca runs`: the history, newest first."""

from __future__ import annotations

from datetime import datetime
from typing import Any

import click

from whenvoca.cli.common import Common, common_options, parse_moment
from whenvoca.cli.show.effects import brief_label, describe_run, effect_to_json
from whenvoca.cli.show.output import OUTCOME_STYLES, Column, say, say_next, show_json, show_table, styled
from whenvoca.engine.ledger.records import RunRecord
from whenvoca.engine.ledger.sqlite import SqliteLedger
from whenvoca.open_workspace import OpenWorkspace


@click.command("runs")
@click.option("--failed", is_flag=True, help="Only runs that failed.")
@click.option("--since", default="", metavar="MOMENT", help='Only runs since then: --since "2027-03-17".')
@click.option("--workflow", default="", metavar="NAME", help="Only runs of one workflow: --workflow slot-requests.")
@click.option(
    "--limit",
    type=click.IntRange(1, 10**9),
    default=30,
    show_default=True,
    metavar="N",
    help="How many at the most: --limit 100.",
)
@common_options
def command(common: Common, failed: bool, since: str, workflow: str, limit: int) -> int:
    """Show what ran: when, which workflow, for which row, how it ended, its effects and the time taken.

    Example: whenvoca runs --failed
    """
    opened = common.open()
    moment = parse_moment(since, opened.workspace.zone, "--since").astimezone() if since else None
    records = _records(opened, workflow, failed, limit, moment)
    if common.as_json:
        show_json({"runs": [_to_json(record) for record in records]})
    elif not records:
        say("nothing has run yet" if not (failed or since or workflow) else "no such run")
        say_next("whenvoca run", quiet=common.quiet)
    else:
        _show(records, opened, common)
    return 0


def _records(opened: OpenWorkspace, workflow: str, failed: bool, limit: int, since: datetime | None) -> list[RunRecord]:
    path = opened.workspace.state_folder / "ledger.sqlite"
    if not path.exists():
        return []
    ledger = SqliteLedger(path)
    try:
        from datetime import UTC

        begin = since.astimezone(UTC).isoformat() if since else ""
        return ledger.runs(workflow=workflow, failed=failed, since=begin, limit=limit)
    finally:
        ledger.close()


def _show(records: list[RunRecord], opened: OpenWorkspace, common: Common) -> None:
    columns = [
        Column("run", align="right"),
        Column("when"),
        Column("about"),
        Column("outcome"),
        Column("what", wraps=True),
        Column("ms", drop=2, align="right"),
        Column("workflow", drop=1),
    ]
    zone = opened.workspace.zone
    rows = []
    for record in records:
        when = datetime.fromisoformat(record.started).astimezone(zone)
        what = record.reason or describe_run(record)
        if record.undone:
            what = f"(taken back by run {record.undone}) {what}"
        outcome = styled(record.outcome, OUTCOME_STYLES.get(record.outcome, ""))
        rows.append(
            (
                record.number,
                f"{when:%Y-%m-%d %H:%M}",
                brief_label(record.label),
                outcome,
                what,
                record.milliseconds,
                record.workflow,
            )
        )
    show_table(columns, rows)
    if any(record.outcome == "failed" for record in records):
        say_next("correct the rows that failed, then: whenvoca run", quiet=common.quiet)


def _to_json(record: RunRecord) -> dict[str, Any]:
    return {
        "run": record.number,
        "workflow": record.workflow,
        "place": record.place,
        "subject": record.label,
        "key": record.subject,
        "started": record.started,
        "outcome": record.outcome,
        "reason": record.reason,
        "milliseconds": record.milliseconds,
        "kind": record.kind,
        "undoes": record.undoes,
        "undone": record.undone,
        "effects": [effect_to_json(effect) for effect in record.effects],
    }
