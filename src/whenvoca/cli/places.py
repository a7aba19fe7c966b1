"""`whenvoca places`: each place, what it holds and whether it answers."""

from __future__ import annotations

import click

from whenvoca.cli.common import Common, common_options
from whenvoca.cli.show.output import Column, say, say_next, show_json, show_table, styled
from whenvoca.engine.workspace.watch_status import read_health


@click.command("places")
@common_options
def command(common: Common) -> int:
    """Show each place of the workspace: its kind, address, zone, how much it holds and whether it answers.

    Example: whenvoca places --json
    """
    opened = common.open()
    reports = opened.places.describe()
    if common.as_json:
        show_json(
            {
                "places": [
                    {
                        "name": r.name,
                        "kind": r.kind,
                        "address": r.address,
                        "zone": r.zone,
                        "answers": not r.trouble,
                        "holds": r.holds,
                        "trouble": r.trouble,
                        "mend": r.fix,
                        "notes": list(r.notes),
                    }
                    for r in reports
                ],
                "watch": read_health(opened.workspace),
            }
        )
        return 0
    show_table(
        [
            Column("place"),
            Column("kind"),
            Column("address", drop=1),
            Column("zone", drop=2),
            Column("holds", wraps=True),
        ],
        [(r.name, r.kind, r.address, r.zone, styled(r.trouble, "red") if r.trouble else r.holds) for r in reports],
    )
    mends: dict[str, list[str]] = {}
    for report in reports:
        if report.trouble and report.fix:
            mends.setdefault(report.fix, []).append(report.name)
    for fix, names in mends.items():
        say(f"{', '.join(names)}: {fix}")
    for report in reports:
        for note in report.notes:
            say(f"note: {report.name}: {note}")
    if health := read_health(opened.workspace):
        coming = f", next at {str(health['next'])[:16].replace('T', ' ')} UTC" if health.get("next") else ""
        say(
            f"watched by process {health['process']}, last looked "
            f"{str(health['looked'])[:19].replace('T', ' ')}{coming}"
        )
    say_next("whenvoca check", quiet=common.quiet)
    return 0
