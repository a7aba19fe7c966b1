"""`whenvoca claim`: for a workspace that was copied or moved."""

from __future__ import annotations

import click

from whenvoca.cli.common import Common, common_options
from whenvoca.cli.show.output import say, say_next, show_json
from whenvoca.engine.clock import RealClock
from whenvoca.engine.ledger.sqlite import SqliteLedger
from whenvoca.engine.lineage import new_root
from whenvoca.engine.workspace.ledger_home import LOCK_PATIENCE, claim_home
from whenvoca.engine.workspace.lock import worker_lock
from whenvoca.engine.workspace.settings import load_workspace, write_root


@click.command("claim")
@click.option(
    "--new-root", "fresh", is_flag=True, help="Make this a workspace of its own, with a new root of identities."
)
@click.option(
    "--real-time",
    "real",
    is_flag=True,
    help="Go on in real time after it was played with --now: played moments are forgotten.",
)
@common_options
def command(common: Common, fresh: bool, real: bool) -> int:
    """Settle whose workspace this is after it was copied or moved.

    Without an option it goes on as the workspace it was: right after moving it, or when the other one is given up. With
    --new-root it becomes another one: what the first has made is another hand's from then on.

    Example: whenvoca claim --new-root
    """
    opened = common.open(with_root=True)
    workspace = opened.workspace
    folder = workspace.make_state_folder()
    with worker_lock(folder / "worker.lock", RealClock(), patience=LOCK_PATIENCE, tell=say):
        if fresh:
            write_root(workspace, new_root())
            workspace = load_workspace(workspace.folder)
            for name in ("ledger.sqlite", "ledger.sqlite-wal", "ledger.sqlite-shm"):
                (folder / name).unlink(missing_ok=True)
        ledger = SqliteLedger(folder / "ledger.sqlite")
        try:
            claim_home(ledger, workspace)
            if real:
                ledger.forget_time()
        finally:
            ledger.close()
    if common.as_json:
        show_json({"root": workspace.root, "new_root": fresh})
    else:
        said = "with a new root; its ledger begins anew" if fresh else "as the workspace it was"
        say(f"this folder goes on {said}{', in real time' if real else ''}")
        say_next("whenvoca check", quiet=common.quiet)
    return 0
