"""A batch: what is waiting is taken up, runs advance in lockstep, files are saved, and all of it is journalled.

The order that makes a kill harmless: intents are committed before they are applied; receipts after; a file's new hash
before it is replaced.
"""

from __future__ import annotations

from collections.abc import Callable, Container, Iterable, Mapping, Sequence
from datetime import datetime
from functools import lru_cache
from typing import Any, Protocol
from zoneinfo import ZoneInfo

from msgspec import Struct, field
from msgspec.structs import replace

from whenvoca.engine.acting.program import Program, TroubleFault, reason_of
from whenvoca.engine.acting.questions import Question
from whenvoca.engine.acting.stage import LiveStage
from whenvoca.engine.acting.step_call import Performing, RunContext
from whenvoca.engine.clock import Clock
from whenvoca.engine.effects import TELLING, Effect, EffectKey, Receipt
from whenvoca.engine.ledger.protocol import Journal, JournalEntry, Ledger, Occurrence, StateChange
from whenvoca.engine.people import People
from whenvoca.engine.place_protocols import RowState, SavedRows, SaveIntent, SheetFace
from whenvoca.engine.running.outcome import RunResult
from whenvoca.engine.running.own_events import note_own_events
from whenvoca.engine.running.presence import VERBS, note_presence
from whenvoca.engine.running.run_input import add_change_words, holds, subject_state, why_dropped
from whenvoca.engine.seeing.observing import moved_cursor
from whenvoca.engine.seeing.sources import Source
from whenvoca.errors import PlaceTrouble, RowFault, SourceFault, WhenvocaError
from whenvoca.language.evaluation import Scope, WaitingFault
from whenvoca.values.durations import Duration, show_duration

UTC_ZONE = ZoneInfo("UTC")
_to_moment = lru_cache(maxsize=256)(datetime.fromisoformat)  # what is taken up together happened at one moment
GROUP = 2500  # runs that advance together
_LATE = 60  # seconds after which a run by time is told as late
MOST_UNSAVED = 10_000  # runs whose cells may wait for the save of their file; more would only fill the memory


class SavingFile(Protocol):
    """A file behind sheets that is saved as a whole."""

    @property
    def pending(self) -> Sequence[Any]:
        """What waits to be saved."""

    def save(self, begin: Callable[[SaveIntent, list[int]], None]) -> dict[str, SavedRows]:
        """Saves it; see ``places.sheet.place.OpenFile``."""


class _Start(Struct):
    """An occurrence that is about to run, with what its run begins with."""

    occurrence: Occurrence
    scope: Scope
    is_lost: bool
    done: list[JournalEntry]


class _Run(Struct):
    occurrence: Occurrence
    context: RunContext
    performing: Performing
    journal: dict[EffectKey, JournalEntry]
    began: float
    effects: list[Effect] = field(default_factory=list)
    unsaved: int = 0  # effects whose file is not saved yet
    outcome: str = ""
    reason: str = ""
    fix: str = ""
    trouble: WhenvocaError | None = None
    late: str = ""  # how late it began, where it is a matter of time
    is_abandoned: bool = False  # has intents that may stay without a receipt: of before a crash, or refused


class RunGroup(Struct, kw_only=True):
    """Works through waiting occurrences of one workflow after the other. ``tell`` hears of every run that ended."""

    ledger: Ledger
    stage: LiveStage
    clock: Clock
    files: Callable[[], Sequence[SavingFile]]
    root: str
    people: People
    tell: Callable[[RunResult], None]
    progress: Callable[[int], None]
    kept: int = 200  # of how many runs the effects are kept to be told; the journal has them all
    chosen: Container[str] | None = None  # keys of the only subjects that run now
    ask: Callable[[Question], Any] | None = None  # answers what workflows ask
    stop: Callable[[], bool] = lambda: False  # whether to end when the step at hand is done
    retries_due: int = 0  # runs that trouble at a place has ended, and that have a try left
    _unsaved: list[_Run] = field(default_factory=list)
    _by_effect: dict[int, tuple[_Run, Effect]] = field(default_factory=dict)
    _sheets: Mapping[str, SheetFace] = field(default_factory=dict)
    _next_effect: int = 0

    def __post_init__(self) -> None:
        self._next_effect = self.ledger.next_effect()

    # --- runs

    def run_waiting(
        self, program: Program, sources: Mapping[str, Source], zone: ZoneInfo | None, sheets: Mapping[str, SheetFace]
    ) -> None:
        """Runs every waiting occurrence of a workflow once, in groups; those of one subject one after the other.

        ``zone`` is the workflow's own; without it the zone of the place counts.
        """
        identity = program.workflow.identity
        self._sheets = sheets
        after = 0
        held: set[str] = set()  # lanes whose run waits: what comes later in them waits with it

        def lane(occurrence: Occurrence) -> str:
            return "" if sources[occurrence.place].in_order else occurrence.subject

        while not self.stop() and (occurrences := self.ledger.waiting(identity, GROUP, after)):
            after = occurrences[-1].number
            left = [each for each in occurrences if self.chosen is None or each.subject in self.chosen]
            while left:
                wave: list[Occurrence] = []
                later: list[Occurrence] = []
                seen: set[str] = set()
                for each in left:
                    if lane(each) in held:
                        continue
                    (later if lane(each) in seen else wave).append(each)
                    seen.add(lane(each))
                runs = [self._begin(start, program) for start in self._starts(wave, program, sources, zone)]
                self._advance(runs)
                held |= {lane(run.occurrence) for run in runs if run.outcome == "waiting"}
                left = later
            if len(self._unsaved) >= MOST_UNSAVED and not self.save_files(sheets):
                return

    def _starts(
        self, occurrences: list[Occurrence], program: Program, sources: Mapping[str, Source], zone: ZoneInfo | None
    ) -> list[_Start]:
        """What each occurrence begins with; one whose subject is gone or left the set is dropped.

        The subject is as it is now, without what this very run, or a failed one before it, wrote into it.
        """
        trigger = program.workflow.trigger
        assert trigger is not None
        failed = self.ledger.failed_writes(program.workflow.identity)
        tells = [each.sequence for each in occurrences] if not trigger.is_set else []
        observed = self.ledger.observed(tells)
        word = trigger.definition.subject
        kept: list[_Start] = []
        for occurrence in occurrences:
            source = sources[occurrence.place]
            done = self.ledger.journal_of(occurrence.run) if occurrence.run else []
            now = source.current(occurrence.subject)
            own = [entry.effect for entry in done if entry.effect.verb == "change row"]
            if now is not None and (own or occurrence.subject in failed):
                now = source.unwritten(now, [*own, *failed.get(occurrence.subject, ())])
            at = _to_moment(occurrence.at)
            scope = None
            if now is not None:
                scope = Scope(source.thing(occurrence.subject, now), word, at, zone or source.zone)
            is_in = scope is not None and holds(program, scope)
            seen = observed.get(occurrence.sequence)
            why = why_dropped(program, occurrence, now, is_in=is_in)
            if why and not done:
                self.ledger.drop(occurrence, why)
                if self.chosen is not None:
                    self.tell(RunResult(occurrence.workflow, occurrence.label, "not taken up", why))
                continue
            state = subject_state(program, occurrence, source, now, seen)
            if scope is None or state is not now:
                scope = Scope(source.thing(occurrence.subject, state), word, at, zone or source.zone)
            add_change_words(scope, occurrence, source, seen)
            is_lost = not is_in if program.is_mirror else occurrence.happened == "lost"
            kept.append(_Start(occurrence, scope, is_lost, done))
        begun = self.ledger.begin_runs([each.occurrence for each in kept], self.clock.now().isoformat())
        for each, occurrence in zip(kept, begun, strict=True):
            each.occurrence = occurrence
        return kept

    def _begin(self, start: _Start, program: Program) -> _Run:
        occurrence = start.occurrence
        trigger, settings = program.workflow.trigger, program.workflow.settings
        assert trigger is not None
        context = RunContext(
            self.stage,
            start.scope,
            self.root,
            program.workflow.identity,
            occurrence.subject,
            occurrence.place,
            self.people,
            run=occurrence.run,
            sequence=occurrence.sequence,
            is_set=trigger.is_set,
            is_lost=start.is_lost,
            is_last_try=occurrence.tries + 1 >= settings.tries,
            reads=self.ledger.reads_of(self.ledger.last_run_of(occurrence)) if start.done or program.asks else {},
            ask=self.ask,
        )
        journal = {entry.key: entry for entry in start.done}
        late = self._late(occurrence) if trigger.definition.watches in ("starts", "ends", "clock") else ""
        performing = program.perform(context)
        return _Run(
            occurrence, context, performing, journal, self.clock.tick(), late=late, is_abandoned=bool(start.done)
        )

    def _late(self, occurrence: Occurrence) -> str:
        late = Duration.between(datetime.fromisoformat(occurrence.at), self.clock.now())
        return f"late by {show_duration(Duration(seconds=late.seconds // 60 * 60))}" if late.seconds >= _LATE else ""

    def perform(self, occurrence: Occurrence, performing: Performing) -> None:
        """Carries one performance out that no workflow gives: an undo. Its cells wait for the save of their files."""
        scope = Scope(None, "", self.clock.now(), UTC_ZONE)
        context = RunContext(
            self.stage, scope, self.root, occurrence.workflow, occurrence.subject, occurrence.place, self.people
        )
        self._advance([_Run(occurrence, context, performing, {}, self.clock.tick())])

    def restore_presence(self, run: int, effect: Effect) -> bool:
        """Carries out one effect that no workflow gives, in a run of its own: somebody's presence comes back. Answers
        whether it was done."""
        key = EffectKey("presence", "", 1)
        self.ledger.commit(Journal(intents=[(self._next_effect, run, key, effect)]))
        number, self._next_effect = self._next_effect, self._next_effect + 1
        (result,) = self.stage.apply([(number, effect)], self.clock.now())
        is_done = isinstance(result, Receipt)
        journal = Journal()
        if isinstance(result, Receipt):
            journal.receipts.append((number, effect, result))
        else:
            journal.failures.append((number, reason_of_error(result)))
        self.ledger.commit(journal)
        reason = "" if isinstance(result, Receipt) else reason_of_error(result)
        self.ledger.end_manual_run(run, "done" if is_done else "failed", reason)
        self.tell(
            RunResult(
                "presence",
                effect.target,
                "done" if is_done else "failed",
                reason,
                effects=(effect,),
                run=run,
                at=self.clock.now().isoformat(),
            )
        )
        return is_done

    def _advance(self, runs: Sequence[_Run]) -> None:
        """Lockstep: each round journals the intents of all runs, applies them, and hands the receipts on."""
        answers: list[tuple[_Run, Receipt | WhenvocaError | None]] = [(run, None) for run in runs]
        journal = Journal()
        observed: list[tuple[Effect, Receipt, int]] = []
        claimed: list[tuple[int, Occurrence, Effect]] = []
        while answers:
            asked: list[tuple[_Run, int, EffectKey, Effect]] = []
            for run, answer in answers:
                if (request := self._step(run, answer)) is not None:
                    number, key, effect = request
                    asked.append((run, number, key, effect))
                    journal.intents.append((number, run.occurrence.run, key, effect))
                if run.context.fresh_reads:
                    journal.reads += [(run.occurrence.run, *each) for each in run.context.fresh_reads]
                    run.context.fresh_reads = []
            self._end_runs([run for run, _ in answers if run.outcome], journal)
            self._commit(journal, observed, claimed)
            journal, observed, claimed = Journal(), [], []
            refused = self._save_before(asked)
            going = [each for each in asked if each[1] not in refused]
            results = (
                self.stage.apply([(number, effect) for _, number, _, effect in going], self.clock.now())
                if going
                else []
            )
            answers = [(run, refused[number]) for run, number, _, _ in asked if number in refused]
            for (run, number, _, effect), result in zip(going, results, strict=True):
                self._note(run, number, effect, result, journal)
                if isinstance(result, Receipt) and not result.is_pending:
                    observed.append((effect, result, run.occurrence.run))
                    if effect.verb in VERBS:
                        claimed.append((number, run.occurrence, effect))
                answers.append((run, result))
        self._commit(journal, observed, claimed)

    def _save_before(self, asked: Sequence[tuple[_Run, int, EffectKey, Effect]]) -> dict[int, WhenvocaError]:
        """Cells are saved before anything is told to others: what is told is then true. Answers the effects that must
        not happen now, with the trouble of their run's cells."""
        if not any(effect.verb in TELLING for _, _, _, effect in asked) or not self._by_effect:
            return {}
        active = [run for run, _, _, _ in asked]
        self.save_files(self._sheets, active)
        refused: dict[int, WhenvocaError] = {}
        for run, number, _, _ in asked:
            if run.trouble is not None:
                refused[number], run.trouble, run.is_abandoned = run.trouble, None, True
        return refused

    def _commit(
        self,
        journal: Journal,
        written: Sequence[tuple[Effect, Receipt, int]],
        claimed: Sequence[tuple[int, Occurrence, Effect]],
    ) -> None:
        """One round: intents, receipts and ends, claims on presence, and our own writes, where calendars are
        observed."""
        with self.ledger.transaction():
            self.ledger.commit(journal)
            for number, occurrence, effect in claimed:
                note_presence(self.ledger, number, occurrence.run, occurrence.workflow, effect)
            note_own_events(self.ledger, self.stage.calendar, written, self.clock.now())

    def _step(self, run: _Run, answer: Receipt | WhenvocaError | None) -> tuple[int, EffectKey, Effect] | None:
        """Takes the run to its next write that has no receipt yet; answers it with its number, that of before a
        crash."""
        try:
            while True:
                if answer is None:
                    key, effect = next(run.performing)
                elif isinstance(answer, Receipt):
                    key, effect = run.performing.send(answer)
                elif isinstance(answer, PlaceTrouble) and answer.is_passing and run.context.is_last_try:
                    key, effect = run.performing.throw(TroubleFault(answer))
                elif isinstance(answer, PlaceTrouble | SourceFault):
                    run.outcome, run.reason, run.fix, run.trouble = (
                        "waiting",
                        reason_of_error(answer),
                        answer.fix,
                        answer,
                    )
                    run.performing.close()
                    return None
                else:
                    key, effect = run.performing.throw(answer)
                run.effects.append(effect)
                entry = run.journal.get(key)
                if entry is not None and entry.receipt is not None:
                    answer = entry.receipt
                    continue
                if entry is not None and self._is_added(entry.effect):
                    answer = Receipt()
                    continue
                self.stage.plan(effect)
                if entry is not None and effect.verb == "call" and (effect.after or {}).get("repeatable") is False:
                    raise RowFault(
                        "in doubt: it is not known whether the call was done before the program stopped",
                        fix="look there, then: whenvoca retry does it again",
                    )
                if entry is not None and effect.verb in VERBS:
                    effect = replace(effect, before=entry.effect.before)  # what stood there before the crash
                if entry is not None:
                    return entry.number, key, effect
                self._next_effect += 1
                return self._next_effect - 1, key, effect
        except StopIteration:
            run.outcome = "done"
        except WaitingFault as fault:
            run.outcome, run.reason, run.fix = "waiting", reason_of(fault), fault.fix
        except RowFault as fault:
            run.outcome, run.reason, run.fix = "failed", reason_of(fault), fault.fix
            run.trouble = fault.trouble if isinstance(fault, TroubleFault) else None
        except (PlaceTrouble, SourceFault) as trouble:
            run.outcome, run.reason, run.fix, run.trouble = "waiting", reason_of_error(trouble), trouble.fix, trouble
        return None

    def _is_added(self, effect: Effect) -> bool:
        """Whether a row that was about to be added before a crash stands already: more equal ones than there were."""
        if effect.verb != "add row":
            return False
        return self.stage.sheet(effect.place).count_equal(effect.after or {}) > int(effect.version or 0)

    def _note(self, run: _Run, number: int, effect: Effect, result: Receipt | WhenvocaError, journal: Journal) -> None:
        if isinstance(result, Receipt):
            if result.is_pending:
                run.unsaved += 1
                self._by_effect[number] = (run, effect)
            else:
                journal.receipts.append((number, effect, result))
            return
        run.is_abandoned = True
        if isinstance(result, RowFault):
            journal.failures.append((number, reason_of(result)))
        elif isinstance(result, PlaceTrouble) and effect.verb == "call":
            journal.failures.append((number, reason_of_error(result)))  # surely not done: it may be done again

    def _end_runs(self, runs: Iterable[_Run], journal: Journal) -> None:
        """Runs whose cells are not saved yet end when they are."""
        for run in runs:
            if run.unsaved and run.outcome != "waiting":
                run.performing, run.journal, run.context = _ENDED, {}, _LET_GO
                if len(self._unsaved) >= self.kept:
                    run.effects = []
                self._unsaved.append(run)
            else:
                self._end(run, journal)

    def _end(self, run: _Run, journal: Journal) -> None:
        if run.outcome == "waiting":
            passes = isinstance(run.trouble, PlaceTrouble) and run.trouble.is_passing
            self.ledger.hold(run.occurrence, run.reason, run.occurrence.tries + passes)
            if passes:
                self.retries_due += 1
                return
        else:
            spent = round((self.clock.tick() - run.began) * 1000)
            journal.ended.append((run.occurrence, run.outcome, run.reason or run.late, spent))
            if run.is_abandoned:
                journal.abandoned.append(run.occurrence.run)
        self.progress(1)
        self.tell(
            RunResult(
                run.occurrence.workflow,
                run.occurrence.label,
                run.outcome,
                run.reason or run.late,
                run.fix,
                tuple(run.effects),
                run.occurrence.run,
                run.trouble,
                run.occurrence.subject,
                run.occurrence.number,
                run.occurrence.at,
            )
        )

    # --- saving

    def save_files(self, sheets: Mapping[str, SheetFace], active: Sequence[_Run] = ()) -> bool:
        """Saves every file with pending cells; then the runs that wrote them have ended, but for those that are still
        at work. Answers whether all were saved."""
        trouble: WhenvocaError | None = None
        for file in self.files():
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
        for run in active:
            if run.unsaved and trouble is not None:
                run.trouble = trouble
        for run in self._unsaved:
            if run.unsaved:
                assert trouble is not None
                run.outcome, run.reason, run.fix, run.trouble = (
                    "waiting",
                    reason_of_error(trouble),
                    trouble.fix,
                    trouble,
                )
            self._end(run, journal)
        self.ledger.commit(journal)
        self._unsaved = []
        left = {id(run) for run in active if run.unsaved}
        self._by_effect = {number: each for number, each in self._by_effect.items() if id(each[0]) in left}
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
                        if run.outcome:
                            run.outcome, run.reason, run.fix = "failed", reason_of_error(error), error.fix
                        else:
                            run.trouble = error  # still at work: it hears of it as the failure of its next step
                        journal.failures.append((number, reason_of_error(error)))
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
        changes: dict[str, RowState | None] = {key: state for key, state in rows.states.items() if key in cause}
        changes |= dict.fromkeys(rows.gone)
        if added:
            for row in sheet.scan(self.ledger.standing(sheet.name)):
                if row.number in added and not row.fault and not row.waits:
                    changes[row.key] = row.state
                    cause[row.key] = added[row.number]
        self.ledger.observe(
            sheet.name,
            [StateChange(key, state) for key, state in changes.items()],
            moved_cursor(cursor, rows.digest),
            self.clock.now().isoformat(),
            cause,
        )


def _no_more() -> Performing:
    yield from ()


_ENDED = _no_more()  # stands for the generator of a run that has ended, so that its names and values are let go
_LET_GO: Any = None  # and for what it acted with


def reason_of_error(error: WhenvocaError) -> str:
    """Place and message of any error, without its mend."""
    return f"{error.where}: {error.message}" if error.where else error.message
