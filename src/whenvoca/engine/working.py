"""`run`: takes up what is waiting, once. Everything the command does, callable without it."""

from __future__ import annotations

import json
import platform
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path
from typing import Any, Protocol
from zoneinfo import ZoneInfo

from whenvoca.engine.batch import Batch, RunResult, SavingFile
from whenvoca.engine.clock import Clock
from whenvoca.engine.effects import Receipt
from whenvoca.engine.faces import CalendarFace, SheetFace
from whenvoca.engine.ledger import Journal, Ledger
from whenvoca.engine.ledger_sqlite import SqliteLedger
from whenvoca.engine.lock import worker_lock
from whenvoca.engine.observing import observe_sheet, take_up
from whenvoca.engine.program import Program
from whenvoca.engine.stage import LiveStage
from whenvoca.engine.workspace import Workspace
from whenvoca.errors import ExitCode, SettingsFault
from whenvoca.language import tree
from whenvoca.language.inference import fold_name
from whenvoca.values.zones import load_zone

LOCK_PATIENCE = 60.0
_ROUNDS = 20  # how often workflows may set each other off within one command


class OpenPlaces(Protocol):
    """The places of a workspace, opened."""

    @property
    def calendars(self) -> Mapping[str, CalendarFace]:
        """The calendars by lower-case name."""

    @property
    def sheets(self) -> Mapping[str, SheetFace]:
        """The sheets by lower-case name."""

    @property
    def files(self) -> Sequence[SavingFile]:
        """The files behind the sheets."""

    def hash_of(self, file: str) -> str:
        """The hash of a file as it stands, empty if there is none."""

    def sweep(self) -> None:
        """Takes away temporaries that a crash left."""


@dataclass(slots=True)
class Outcome:
    """What one `run` did."""

    results: list[RunResult] = field(default_factory=list)  # all that did not go well, and as many others as are told
    counts: dict[str, int] = field(default_factory=dict)  # of all, by outcome
    faults: list[str] = field(default_factory=list)  # rows that cannot be taken up
    waits: list[str] = field(default_factory=list)  # rows without their key
    unanswered: int = 0  # rows whose last run failed and that nobody has changed since

    def hear(self, result: RunResult, most: int) -> None:
        """Counts a run that ended, and keeps it to be told."""
        self.counts[result.outcome] = self.counts.get(result.outcome, 0) + 1
        if result.outcome != "done" or len(self.results) < most:
            self.results.append(result)

    @property
    def exit_code(self) -> ExitCode:
        """0, 1 if a run failed or waits for a setting, 3 if a place could not be reached."""
        if any(result.trouble is not None for result in self.results):
            return ExitCode.UNREACHABLE
        failed = self.faults or self.counts.get("failed") or self.counts.get("waiting")
        return ExitCode.FAILED if failed else ExitCode.DONE


@contextmanager
def open_ledger(workspace: Workspace, clock: Clock, tell: Callable[[str], None]) -> Iterator[Ledger]:
    """The ledger, with the workspace's lock held. Raises SettingsFault if the workspace was copied or moved."""
    folder = workspace.make_state_folder()
    with worker_lock(folder / "worker.lock", clock, patience=LOCK_PATIENCE, tell=tell):
        ledger = SqliteLedger(folder / "ledger.sqlite")
        try:
            _check_home(ledger, workspace)
            yield ledger
        finally:
            ledger.close()


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
        what, where=str(workspace.folder),
        mend="whenvoca claim goes on as that workspace; whenvoca claim --new-root makes this one a workspace of its own",
    )  # fmt: skip


def claim_home(ledger: Ledger, workspace: Workspace) -> None:
    """Remembers this machine and folder as the ledger's home."""
    ledger.set_meta("home", json.dumps(home_of(workspace)))


def run_workflows(
    workspace: Workspace, workflows: Sequence[tree.Workflow], places: OpenPlaces, ledger: Ledger, clock: Clock,
    *, progress: Callable[[int, int], None] = lambda done, total: None, kept: int = 200,
) -> Outcome:  # fmt: skip
    """Takes up what is waiting for these workflows and runs it, until nothing new is set off.

    Of runs that went well as many as ``kept`` are told one by one; all are counted.
    """
    outcome = Outcome()

    def heard(result: RunResult) -> None:
        outcome.hear(result, kept)

    _finish_saves(ledger, places, clock.now())
    programs = [(to_program(workflow, places), places.sheets[place_of(workflow)]) for workflow in workflows]
    stage = LiveStage(places.calendars, places.sheets, ledger, clock)
    done = 0

    def count(ended: int) -> None:
        nonlocal done
        done += ended
        progress(done, total)

    for round_number in range(_ROUNDS):
        now = clock.now()
        first_round = round_number == 0
        for sheet in {sheet.name: sheet for _, sheet in programs}.values():
            sight = observe_sheet(ledger, sheet, now)
            if first_round:
                outcome.faults += sight.faults
                outcome.waits += sight.waits
        new = 0
        for program, sheet in programs:
            taken = take_up(ledger, program, sheet, now, zone_of(workspace, program.workflow, sheet))
            outcome.faults += taken.circles
            new += taken.new
        if not new and not first_round:
            break
        total = done + sum(ledger.count_waiting(program.workflow.identity) for program, _ in programs)
        batch = Batch(
            ledger=ledger, stage=stage, clock=clock, files=places.files, root=workspace.root, people=workspace.people,
            tell=heard, progress=count, kept=kept,
        )  # fmt: skip
        for program, sheet in programs:
            if ledger.count_waiting(program.workflow.identity):
                if not sheet.is_scanned:
                    sheet.scan(ledger.standing(sheet.name))
                batch.run_waiting(program, sheet, zone_of(workspace, program.workflow, sheet), places.sheets)
        batch.save_files(places.sheets)
        if outcome.exit_code is ExitCode.UNREACHABLE:
            break
    for sheet in {sheet.name: sheet for _, sheet in programs}.values():
        sheet.info()  # remembered, so that the next run need not read what stands unchanged
    outcome.unanswered = sum(len(ledger.failed_writes(program.workflow.identity)) for program, _ in programs)
    return outcome


def zone_of(workspace: Workspace, workflow: tree.Workflow, sheet: SheetFace) -> ZoneInfo:
    """The zone in which a workflow's times are meant: its own, else that of the sheet it is about."""
    return load_zone(workflow.settings.zone) if workflow.settings.zone else sheet.zone


def place_of(workflow: tree.Workflow) -> str:
    """The lower-case name of the place that a workflow's trigger looks at."""
    assert workflow.trigger is not None
    return workflow.trigger.place.lower()


def to_program(workflow: tree.Workflow, places: OpenPlaces) -> Program:
    """The workflow ready to run, its names bound to the columns of the real sheet."""
    sheet = places.sheets[place_of(workflow)]
    info = sheet.info()
    return Program(workflow, frozenset(fold_name(word) for word in info.by_word))


def _finish_saves(ledger: Ledger, places: OpenPlaces, now: datetime) -> None:
    """After a crash: which files were replaced and which not. What was not comes again with its run."""
    unfinished = ledger.open_saves()
    if unfinished or ledger.has_unfinished():
        places.sweep()
    for number, intent, effects in unfinished:
        standing = places.hash_of(intent.file)
        if standing != intent.after:
            ledger.end_save(number, "undone")
            continue
        found = ledger.effects(effects)
        journal = Journal(receipts=[(each, effect, Receipt(standing)) for each, (_, effect) in found.items()])
        with ledger.transaction():
            for place in {effect.place for _, effect in found.values()}:
                sheet: Any = places.sheets.get(place.lower())
                if sheet is not None and ledger.cursor(sheet.name):
                    _observe_after_crash(ledger, sheet, found, now)
            ledger.commit(journal)
            ledger.end_save(number, "done")


def _observe_after_crash(ledger: Ledger, sheet: SheetFace, found: Mapping[int, tuple[int, Any]], now: datetime) -> None:
    """Enters our own cells, which a crash kept from the observation log, with the run that wrote them."""
    cause = {
        effect.target: run
        for run, effect in found.values()
        if effect.place == sheet.name and effect.verb == "change row"
    }
    added = [
        (run, effect.after or {})
        for run, effect in found.values()
        if effect.place == sheet.name and effect.verb == "add row"
    ]
    known = ledger.standing(sheet.name)
    for row in sheet.scan(known) if added else ():
        if row.key not in known:
            for run, cells in added:
                if all(row.state.get(name) == sheet.to_raw(name, value) for name, value in cells.items()):
                    cause[row.key] = run
    observe_sheet(ledger, sheet, now, cause)
