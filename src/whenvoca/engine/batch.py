"""A batch: what is waiting is taken up, runs advance in lockstep, files are saved, and all of it is journalled.

The order that makes a kill harmless: intents are committed before they are applied; receipts after; a file's new hash
before it is replaced.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any, Protocol
from zoneinfo import ZoneInfo

from whenvoca.engine.clock import Clock
from whenvoca.engine.effects import Effect, EffectKey, Receipt
from whenvoca.engine.faces import RowState, SavedRows, SaveIntent, SheetFace
from whenvoca.engine.ledger import Journal, JournalEntry, Ledger, Occurrence
from whenvoca.engine.observing import moved_cursor, unwritten
from whenvoca.engine.program import People, Performing, Program, RunContext, reason_of
from whenvoca.engine.stage import LiveStage
from whenvoca.errors import PlaceTrouble, RowFault, SourceFault, WhenvocaError
from whenvoca.language.evaluation import Scope, WaitingFault

GROUP = 2500  # runs that advance together
MOST_UNSAVED = 15_000  # runs whose cells may wait for the save of their file; more would only fill the memory


class SavingFile(Protocol):
    """A file behind sheets that is saved as a whole."""

    @property
    def pending(self) -> Sequence[Any]:
        """What waits to be saved."""

    def save(self, begin: Callable[[SaveIntent, list[int]], None]) -> dict[str, SavedRows]:
        """Saves it; see ``places.sheet.place.OpenFile``."""


@dataclass(frozen=True, slots=True)
class RunResult:
    """How a run ended, for people: done, failed, or waiting for a setting or a place."""

    workflow: str
    label: str
    outcome: str
    reason: str = ""
    mend: str = ""
    effects: tuple[Effect, ...] = ()
    run: int = 0
    trouble: WhenvocaError | None = None


@dataclass(slots=True)
class _Run:
    occurrence: Occurrence
    performing: Performing
    journal: dict[EffectKey, JournalEntry]
    began: float
    effects: list[Effect] = field(default_factory=list)
    unsaved: int = 0  # effects whose file is not saved yet
    outcome: str = ""
    reason: str = ""
    mend: str = ""
    trouble: WhenvocaError | None = None


@dataclass(slots=True, kw_only=True)
class Batch:
    """Works through waiting occurrences of one workflow after the other. ``tell`` hears of every run that ended."""

    ledger: Ledger
    stage: LiveStage
    clock: Clock
    files: Sequence[SavingFile]
    root: str
    people: People
    tell: Callable[[RunResult], None]
    progress: Callable[[int], None]
    kept: int = 200  # of how many runs the effects are kept to be told; the journal has them all
    _unsaved: list[_Run] = field(default_factory=list)
    _by_effect: dict[int, tuple[_Run, Effect]] = field(default_factory=dict)
    _next_effect: int = 0

    def __post_init__(self) -> None:
        self._next_effect = self.ledger.next_effect()

    # --- runs

    def run_waiting(self, program: Program, sheet: SheetFace, zone: ZoneInfo, sheets: Mapping[str, SheetFace]) -> None:
        """Runs every waiting occurrence of a workflow once, in groups."""
        workflow = program.workflow
        after = 0
        while occurrences := self.ledger.waiting(workflow.identity, GROUP, after):
            after = occurrences[-1].number
            startable = self._startable(occurrences, program, sheet, zone)
            self._advance([self._begin(each, program, sheet, scope, done) for each, scope, done in startable])
            if len(self._unsaved) >= MOST_UNSAVED and not self.save_files(sheets):
                return

    def _startable(
        self, occurrences: list[Occurrence], program: Program, sheet: SheetFace, zone: ZoneInfo
    ) -> list[tuple[Occurrence, Scope, list[JournalEntry]]]:
        """Occurrences whose subject still stands and is in the set, each with its run and what that did before a crash.

        The subject is the row as it is now, without what this very run, or a failed one before it, wrote into it.
        """
        failed = self.ledger.failed_writes(program.workflow.identity)
        assert program.workflow.trigger is not None
        word = program.workflow.trigger.definition.subject
        kept: list[tuple[Occurrence, Scope, list[JournalEntry]]] = []
        for occurrence in occurrences:
            state = sheet.current(occurrence.subject)
            if state is None:
                self.ledger.drop(occurrence, "its row is gone")
                continue
            done = self.ledger.journal_of(occurrence.run) if occurrence.run else []
            own = [entry.effect for entry in done if entry.effect.verb == "change row"]
            if own or occurrence.subject in failed:
                state = unwritten(state, [*own, *failed.get(occurrence.subject, ())], sheet)
            scope = Scope(sheet.row(occurrence.subject, state), word, datetime.fromisoformat(occurrence.at), zone)
            if not done and not _holds(program, scope):
                self.ledger.drop(occurrence, "its row left the set")
                continue
            kept.append((occurrence, scope, done))
        begun = self.ledger.begin_runs([each for each, _, _ in kept], self.clock.now().isoformat())
        return [(occurrence, scope, done) for occurrence, (_, scope, done) in zip(begun, kept, strict=True)]

    def _begin(
        self, occurrence: Occurrence, program: Program, sheet: SheetFace, scope: Scope, done: list[JournalEntry]
    ) -> _Run:
        context = RunContext(
            self.stage, scope, self.root, program.workflow.identity, occurrence.subject, sheet.name, self.people
        )
        return _Run(occurrence, program.perform(context), {entry.key: entry for entry in done}, self.clock.tick())

    def _advance(self, runs: Sequence[_Run]) -> None:
        """Lockstep: each round journals the intents of all runs, applies them, and hands the receipts on."""
        answers: list[tuple[_Run, Receipt | WhenvocaError | None]] = [(run, None) for run in runs]
        journal = Journal()
        while answers:
            asked: list[tuple[_Run, int, EffectKey, Effect]] = []
            for run, answer in answers:
                if (request := self._step(run, answer)) is not None:
                    number, key, effect = request
                    asked.append((run, number, key, effect))
                    journal.intents.append((number, run.occurrence.run, key, effect))
            self._end_runs([run for run, _ in answers if run.outcome], journal)
            self.ledger.commit(journal)
            journal = Journal()
            results = (
                self.stage.apply([(number, effect) for _, number, _, effect in asked], self.clock.now())
                if asked
                else []
            )
            answers = []
            for (run, number, _, effect), result in zip(asked, results, strict=True):
                self._note(run, number, effect, result, journal)
                answers.append((run, result))
        self.ledger.commit(journal)

    def _step(self, run: _Run, answer: Receipt | WhenvocaError | None) -> tuple[int, EffectKey, Effect] | None:
        """Takes the run to its next write that has no receipt yet; answers it with its number, that of before a crash."""
        try:
            while True:
                if isinstance(answer, PlaceTrouble | SourceFault):
                    run.outcome, run.reason, run.mend, run.trouble = (
                        "waiting",
                        reason_of_error(answer),
                        answer.mend,
                        answer,
                    )
                    run.performing.close()
                    return None
                if isinstance(answer, WhenvocaError):
                    key, effect = run.performing.throw(answer)
                elif answer is None:
                    key, effect = next(run.performing)
                else:
                    key, effect = run.performing.send(answer)
                run.effects.append(effect)
                entry = run.journal.get(key)
                if entry is not None and entry.receipt is not None:
                    answer = entry.receipt
                    continue
                if entry is not None and self._is_added(entry.effect):
                    answer = Receipt()
                    continue
                self.stage.plan(effect)
                if entry is not None:
                    return entry.number, key, effect
                self._next_effect += 1
                return self._next_effect - 1, key, effect
        except StopIteration:
            run.outcome = "done"
        except WaitingFault as fault:
            run.outcome, run.reason, run.mend = "waiting", reason_of(fault), fault.mend
        except RowFault as fault:
            run.outcome, run.reason, run.mend = "failed", reason_of(fault), fault.mend
        except (PlaceTrouble, SourceFault) as trouble:
            run.outcome, run.reason, run.mend, run.trouble = "waiting", reason_of_error(trouble), trouble.mend, trouble
        return None

    def _is_added(self, effect: Effect) -> bool:
        """Whether a row that was about to be added before a crash stands already: more equal ones than there were."""
        if effect.verb != "add row":
            return False
        return self.stage.sheet(effect.place).count_equal(effect.after or {}) > int(effect.version or 0)

    def _note(self, run: _Run, number: int, effect: Effect, result: Receipt | WhenvocaError, journal: Journal) -> None:
        if isinstance(result, RowFault):
            journal.failures.append((number, reason_of(result)))
        elif isinstance(result, Receipt) and result.is_pending:
            run.unsaved += 1
            self._by_effect[number] = (run, effect)
        elif isinstance(result, Receipt):
            journal.receipts.append((number, effect, result))

    def _end_runs(self, runs: Iterable[_Run], journal: Journal) -> None:
        """Runs whose cells are not saved yet end when they are."""
        for run in runs:
            if run.unsaved and run.outcome != "waiting":
                run.performing, run.journal = _ENDED, {}
                if len(self._unsaved) >= self.kept:
                    run.effects = []
                self._unsaved.append(run)
            else:
                self._end(run, journal)

    def _end(self, run: _Run, journal: Journal) -> None:
        if run.outcome == "waiting":
            self.ledger.hold(run.occurrence, run.reason)
        else:
            spent = round((self.clock.tick() - run.began) * 1000)
            journal.ended.append((run.occurrence, run.outcome, run.reason, spent))
        self.progress(1)
        self.tell(
            RunResult(
                run.occurrence.workflow, run.occurrence.label, run.outcome, run.reason, run.mend, tuple(run.effects),
                run.occurrence.run, run.trouble,
            )
        )  # fmt: skip

    # --- saving

    def save_files(self, sheets: Mapping[str, SheetFace]) -> bool:
        """Saves every file with pending cells; then the runs that wrote them have ended. Answers whether all were saved."""
        trouble: WhenvocaError | None = None
        for file in self.files:
            if not file.pending:
                continue
            begun: list[int] = []

            def begin(intent: SaveIntent, effects: list[int], begun: list[int] = begun) -> None:
                if begun:
                    self.ledger.end_save(begun.pop(), "undone")
                begun.append(self.ledger.begin_save(intent, effects))

            try:
                saved = file.save(begin)
            except (PlaceTrouble, RowFault, SourceFault) as error:
                trouble = error
                for number in begun:
                    self.ledger.end_save(number, "undone")
                continue
            self._note_saved(saved, begun, sheets)
        journal = Journal()
        for run in self._unsaved:
            if run.unsaved:
                assert trouble is not None
                run.outcome, run.reason, run.mend, run.trouble = (
                    "waiting",
                    reason_of_error(trouble),
                    trouble.mend,
                    trouble,
                )
            self._end(run, journal)
        self.ledger.commit(journal)
        self._unsaved = []
        self._by_effect = {}
        return trouble is None

    def _note_saved(self, saved: dict[str, SavedRows], begun: list[int], sheets: Mapping[str, SheetFace]) -> None:
        """Receipts, own observations and the end of the save, in one transaction."""
        journal = Journal()
        with self.ledger.transaction():
            for place, rows in saved.items():
                cause: dict[str, int] = {}
                added: dict[int, int] = {}  # row number: run
                for number, (run, effect) in self._by_effect.items():
                    if effect.place != place:
                        continue
                    run.unsaved -= 1
                    if (error := rows.errors.get(number)) is not None:
                        run.outcome, run.reason, run.mend = "failed", reason_of_error(error), error.mend
                        journal.failures.append((number, run.reason))
                    else:
                        journal.receipts.append((number, effect, Receipt(rows.digest)))
                        cause[effect.target] = run.occurrence.run
                        if number in rows.added:
                            added[rows.added[number]] = run.occurrence.run
                self._observe_own(sheets[place.lower()], rows, cause, added)
            self.ledger.commit(journal)
            for number in begun:
                self.ledger.end_save(number, "done")

    def _observe_own(self, sheet: SheetFace, rows: SavedRows, cause: dict[str, int], added: dict[int, int]) -> None:
        """Our own receipts enter the observation log with their cause, where the sheet is observed at all."""
        cursor = self.ledger.cursor(sheet.name)
        if not cursor:
            return
        changes: dict[str, RowState] = {key: state for key, state in rows.states.items() if key in cause}
        if added:
            for row in sheet.scan(self.ledger.standing(sheet.name)):
                if row.number in added and not row.fault and not row.waits:
                    changes[row.key] = row.state
                    cause[row.key] = added[row.number]
        self.ledger.observe(
            sheet.name, changes.items(), moved_cursor(cursor, rows.digest), self.clock.now().isoformat(), cause
        )


def _no_more() -> Performing:
    yield from ()


_ENDED = _no_more()  # stands for the generator of a run that has ended, so that its names and values are let go


def _holds(program: Program, scope: Scope) -> bool:
    """Whether the subject is in the workflow's set; one that cannot be told is taken up, so that its run says why."""
    try:
        return program.where(scope)
    except RowFault:
        return True


def reason_of_error(error: WhenvocaError) -> str:
    """Place and message of any error, without its mend."""
    return f"{error.where}: {error.message}" if error.where else error.message
