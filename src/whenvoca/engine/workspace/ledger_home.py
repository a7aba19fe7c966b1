"""Where a ledger is at home: its machine and folder, its lock, and whether it goes by real or by played time."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path

from whenvoca.engine.clock import Clock
from whenvoca.engine.ledger.protocol import Ledger
from whenvoca.engine.ledger.sqlite import SqliteLedger
from whenvoca.engine.workspace.lock import worker_lock
from whenvoca.engine.workspace.settings import Workspace
from whenvoca.engine.workspace.watch_status import read_health
from whenvoca.errors import ExitCode, PlaceTrouble, SettingsFault, WhenvocaError
from whenvoca.values.durations import add_to_moment

LOCK_PATIENCE = 60.0


class WatchedElsewhere(WhenvocaError):
    """Another process watches the workspace: it does what is asked for, and the ledger is where it is asked."""

    exit_code = ExitCode.UNREACHABLE

    def __init__(self, folder: Path) -> None:
        super().__init__("another process watches this workspace", where=str(folder.parent))
        self.folder = folder


_HELD: dict[Path, Ledger] = {}  # ledgers that this process keeps, by the folder they stand in


@contextmanager
def open_ledger(workspace: Workspace, clock: Clock, tell: Callable[[str], None]) -> Iterator[Ledger]:
    """The ledger, with the workspace's lock held. Raises SettingsFault if the workspace was copied or moved."""
    folder = workspace.make_state_folder()
    if (held := _HELD.get(folder.resolve())) is not None:
        yield held  # this very process watches the workspace, and does what another one handed over
        return
    if read_health(workspace) is not None:
        raise WatchedElsewhere(folder)
    with worker_lock(folder / "worker.lock", clock, patience=LOCK_PATIENCE, tell=tell):
        ledger = SqliteLedger(folder / "ledger.sqlite")
        try:
            _check_home(ledger, workspace)
            rename_places(ledger, workspace)
            yield ledger
        finally:
            ledger.close()


@contextmanager
def hold_ledger(workspace: Workspace, clock: Clock, tell: Callable[[str], None]) -> Iterator[Ledger]:
    """The ledger for a process that keeps it: commands that it carries out for others use the same one.

    Raises PlaceTrouble where another process keeps it.
    """
    if (health := read_health(workspace)) is not None:
        raise PlaceTrouble(
            f"this workspace is watched already, by process {health['process']} since "
            f"{datetime.fromisoformat(str(health['since'])).astimezone(workspace.zone):%Y-%m-%d %H:%M}",
            where=str(workspace.folder),
            fix="stop that one first (Ctrl-C, or SIGTERM)",
        )
    with open_ledger(workspace, clock, tell) as ledger:
        key = workspace.state_folder.resolve()
        _HELD[key] = ledger
        try:
            yield ledger
        finally:
            del _HELD[key]


def home_of(workspace: Workspace) -> dict[str, str]:
    """What the ledger remembers of where it is kept: machine, folder, root of identities."""
    return {"machine": machine_name(), "folder": str(workspace.folder.resolve()), "root": workspace.root}


def machine_name() -> str:
    """A name of this machine that stays."""
    for path in ("/etc/machine-id", "/var/lib/dbus/machine-id"):
        try:
            if text := Path(path).read_text(encoding="ascii").strip():
                return text
        except OSError:
            continue
    import platform

    return platform.node()


def _check_home(ledger: Ledger, workspace: Workspace) -> None:
    remembered = ledger.meta("home")
    here = home_of(workspace)
    if not remembered:
        ledger.set_meta("home", json.dumps(here))
        return
    known: dict[str, str] = json.loads(remembered)
    if known == here:
        return
    if known.get("root") != here["root"]:
        what = "the root in whenvoca.toml is not the one that this ledger was kept for"
    else:
        moved = "folder" if known.get("machine") == here["machine"] else "machine"
        what = f"this workspace was copied or moved: its ledger was kept in another {moved} ({known.get('folder')})"
    raise SettingsFault(
        what,
        where=str(workspace.folder),
        fix="whenvoca claim goes on as that workspace; whenvoca claim --new-root makes this one a workspace of its own",
    )


def rename_places(ledger: Ledger, workspace: Workspace) -> None:
    """Lets the ledger know places by their names of now, where whenvoca.toml says what they were called formerly."""
    if not workspace.former_places:
        return
    known = {name.lower(): name for name in ledger.places()}
    names = {name.lower(): name for name in workspace.places}
    for new, old in workspace.former_places.items():
        if old.lower() in known and old.lower() not in names and new not in known:
            ledger.rename_place(known[old.lower()], names[new])


def prune_when_due(ledger: Ledger, workspace: Workspace, clock: Clock) -> None:
    """Once a day: lets the ledger forget what is older than the workspace's history. Never by played time."""
    if workspace.history is None or clock.is_played:
        return
    now = clock.now().astimezone(UTC)
    if ledger.meta("pruned") >= now.date().isoformat():
        return
    ledger.prune(add_to_moment(now, -workspace.history).isoformat())
    ledger.set_meta("pruned", now.date().isoformat())


def claim_home(ledger: Ledger, workspace: Workspace) -> None:
    """Remembers this machine and folder as the ledger's home."""
    ledger.set_meta("home", json.dumps(home_of(workspace)))


def check_time(ledger: Ledger, clock: Clock) -> None:
    """A ledger is on real or on played time, never both: a moment that was played would be missing in earnest.

    Raises SettingsFault where it is the other.
    """
    kind = "played" if clock.is_played else "real"
    known = ledger.meta("time")
    if known and known != kind:
        was = "was played through with --now" if known == "played" else "runs in real time"
        raise SettingsFault(
            f"this workspace {was}, and its workflows wait for moments: the two do not go together",
            where="the ledger",
            fix="whenvoca claim --real-time goes on in real time"
            if known == "played"
            else "play in a copy of the workspace: claim --new-root",
        )
    if not known:
        ledger.set_meta("time", kind)
