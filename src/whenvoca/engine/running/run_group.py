"""What waits for a workflow, run in groups: each run with its subject as it is now, those of one subject in turn."""

from __future__ import annotations

from collections.abc import Callable, Container, Sequence
from datetime import datetime, timedelta
from functools import lru_cache
from typing import Any
from zoneinfo import ZoneInfo

from msgspec import Struct

from whenvoca.engine.acting.inviting import inviting
from whenvoca.engine.acting.keyed import Performing
from whenvoca.engine.acting.questions import Question
from whenvoca.engine.acting.run_context import Recall, RunContext, RunSubject
from whenvoca.engine.acting.workspace_stage import WorkspaceStage
from whenvoca.engine.ledger.records import JournalEntry, Occurrence
from whenvoca.engine.place_protocols import RowState
from whenvoca.engine.running.afterwards import afterwards
from whenvoca.engine.running.correcting import instead
from whenvoca.engine.running.group_run import GroupRun, RunEnds
from whenvoca.engine.running.lockstep import Lockstep
from whenvoca.engine.running.open_program import OpenProgram
from whenvoca.engine.running.outcome import RunResult
from whenvoca.engine.running.patience import Patience
from whenvoca.engine.running.run_input import add_change_words, holds, subject_state, why_dropped
from whenvoca.engine.running.unsaved_cells import UnsavedCells
from whenvoca.engine.seeing.strategy import missed_after
from whenvoca.language.evaluation import Scope
from whenvoca.values.durations import Duration, show_duration

_UTC = ZoneInfo("UTC")
_to_moment = lru_cache(maxsize=256)(datetime.fromisoformat)  # what is taken up together happened at one moment
GROUP = 2500  # runs that advance together
LONGEST_WAIT = timedelta(hours=24)  # of a run for a place that does not answer
_LATE = 60  # seconds after which a run by time is told as late
MOST_UNSAVED = 10_000  # runs whose cells may wait for the save of their file; more would only fill the memory


class _Start(Struct):
    """An occurrence that is about to run, with what its run begins with."""

    occurrence: Occurrence
    scope: Scope
    state: RowState | None
    is_lost: bool
    done: list[JournalEntry]


class RunGroup:
    """Works through waiting occurrences of one workflow after the other. ``tell`` hears of every run that ended.

    ``kept``: of how many runs the effects are kept to be told; the journal has them all. ``stop`` answers whether to
    end when the step at hand is done. ``patience`` knows when runs that wait for a place are tried again; without it
    they are tried at once.
    """

    def __init__(
        self,
        stage: WorkspaceStage,
        tell: Callable[[RunResult], None],
        *,
        progress: Callable[[int], None] = lambda ended: None,
        kept: int = 200,
        stop: Callable[[], bool] = lambda: False,
        patience: Patience | None = None,
    ) -> None:
        self._stage, self._tell, self._stop, self._patience = stage, tell, stop, patience
        self._ends = RunEnds(stage, tell, progress, patience)
        self._cells = UnsavedCells(stage, self._ends, kept)
        self._lockstep = Lockstep(stage, self._cells, self._ends)

    @property
    def retries_due(self) -> int:
        """How many runs trouble at a place has ended that have a try left."""
        return self._ends.retries_due

    def save_files(self) -> bool:
        """Saves every file with pending cells, which ends the runs that wrote them. Answers whether all were saved."""
        return self._cells.save()

    def perform(self, occurrence: Occurrence, performing: Performing, done: Sequence[JournalEntry] = ()) -> GroupRun:
        """Carries out what no workflow gives: an undo, a request in words, an answer. Its cells wait for the save of
        their files; trouble at a place is its failure. ``done`` is what it did before a crash."""
        stage, at = self._stage, self._stage.clock
        subject = RunSubject(occurrence.workflow, occurrence.place, occurrence.subject)
        context = RunContext(stage, Scope(None, "", at.now(), _UTC), subject)
        journal = {entry.key: entry for entry in done}
        follows = inviting(performing, context, journal)
        run = GroupRun(occurrence, context, follows, at.tick(), journal, must_end=True, is_abandoned=bool(done))
        self._lockstep.advance([run])
        return run

    def run_waiting(
        self,
        opened: OpenProgram,
        *,
        chosen: Container[str] | None = None,
        ask: Callable[[Question], Any] | None = None,
        asks_anew: bool = False,
    ) -> None:
        """Runs every waiting occurrence of a workflow once. ``chosen``: keys of the only subjects that run now; ``ask``
        answers what the workflow asks, ``asks_anew`` also where it was answered in a run before. Raises PlaceTrouble
        where the ledger cannot be written."""
        after = 0
        held: set[str] = set()  # lanes whose run waits: what comes later in them waits with it

        def lane(occurrence: Occurrence) -> str:
            in_order = opened.sources[occurrence.place].in_order or opened.program.is_collective
            return "" if in_order else occurrence.subject

        while not self._stop() and (occurrences := self._stage.ledger.waiting(opened.identity, GROUP, after)):
            after = occurrences[-1].number
            left = [each for each in occurrences if chosen is None or each.subject in chosen]
            while left:
                wave: list[Occurrence] = []
                later: list[Occurrence] = []
                seen: set[str] = set()
                for each in left:
                    if lane(each) in held:
                        continue
                    if self._patience is not None and not self._patience.is_due(each.number):
                        held.add(lane(each))
                        continue
                    (later if lane(each) in seen else wave).append(each)
                    seen.add(lane(each))
                starts = self._starts(opened, wave, tells_dropped=chosen is not None)
                runs = [self._begin(opened, start, ask, asks_anew=asks_anew) for start in starts]
                self._lockstep.advance(runs)
                held |= {lane(run.occurrence) for run in runs if run.outcome == "waiting"}
                left = later
            if self._cells.runs_waiting >= MOST_UNSAVED and not self.save_files():
                return

    def _starts(self, opened: OpenProgram, occurrences: Sequence[Occurrence], *, tells_dropped: bool) -> list[_Start]:
        """What each occurrence begins with; one whose subject is gone or left the set is dropped.

        The subject is as it is now, without what this very run, or a failed one before it, wrote into it.
        """
        ledger, program = self._stage.ledger, opened.program
        trigger = program.workflow.trigger
        failed = ledger.failed_writes(opened.identity)
        observed = ledger.observed([each.sequence for each in occurrences] if not trigger.is_set else [])
        kept: list[_Start] = []
        for occurrence in occurrences:
            source = opened.sources[occurrence.place]
            done = ledger.journal_of(occurrence.run) if occurrence.run else []
            now = source.current(occurrence.subject)
            if now is not None and (done or occurrence.subject in failed):
                own = [entry.effect for entry in done]
                now = source.unwritten(occurrence.subject, now, [*own, *failed.get(occurrence.subject, ())])
            at = _to_moment(occurrence.at)
            scope = opened.scope_of(source, occurrence.subject, now, at) if now is not None else None
            is_in = scope is not None and holds(program, scope)
            seen = observed.get(occurrence.sequence)
            if seen is None and now is None and done:  # it goes on about what it was begun with
                seen = ledger.observed([occurrence.sequence]).get(occurrence.sequence)
            why = why_dropped(program, occurrence, now, is_in=is_in)
            if why and not done:
                ledger.drop(occurrence, why)
                if tells_dropped:
                    self._tell(RunResult(occurrence, "not taken up", why))
                continue
            state = subject_state(program, occurrence, source, now, seen)
            if scope is None or state is not now:
                scope = opened.scope_of(source, occurrence.subject, state, at)
            add_change_words(scope, occurrence, source, seen)
            is_lost = not is_in if program.is_mirror else occurrence.happened == "lost"
            kept.append(_Start(occurrence, scope, state, is_lost, done))
        begun = ledger.begin_runs([each.occurrence for each in kept], self._stage.clock.now().isoformat())
        for each, occurrence in zip(kept, begun, strict=True):
            each.occurrence = occurrence
        return kept

    def _begin(
        self, opened: OpenProgram, start: _Start, ask: Callable[[Question], Any] | None, *, asks_anew: bool
    ) -> GroupRun:
        occurrence, program, ledger = start.occurrence, opened.program, self._stage.ledger
        trigger, settings = program.workflow.trigger, program.workflow.settings
        reads = (
            ledger.reads_of(ledger.last_run_of(occurrence)) if start.done or (program.asks and not asks_anew) else {}
        )
        source, state = opened.sources[occurrence.place], start.state
        context = RunContext(
            self._stage,
            start.scope,
            RunSubject.of(occurrence, is_set=trigger.is_set, is_lost=start.is_lost),
            run=occurrence.run,
            is_last_try=occurrence.tries + 1 >= settings.tries,
            is_too_late=self._is_too_late(opened, occurrence),
            recall=Recall(reads),
            ask=ask,
            corrected=source.corrected(occurrence.subject, state) if state is not None else {},
        )
        journal = {entry.key: entry for entry in start.done}
        performing = program.perform(context)
        performing = instead(context, performing) if context.corrected else performing
        return GroupRun(
            occurrence,
            context,
            afterwards(inviting(performing, context, journal), context),
            self._stage.clock.tick(),
            journal,
            tries=settings.tries,
            late=self._late(occurrence) if trigger.definition.strategy.is_timed else "",
            is_abandoned=bool(start.done),
        )

    def _is_too_late(self, opened: OpenProgram, occurrence: Occurrence) -> bool:
        """Whether it has been tried, and has waited for a place for longer than it may."""
        if not occurrence.tries:
            return False
        is_timed = opened.program.workflow.trigger.definition.strategy.is_timed
        longest = missed_after(opened.program) if is_timed else LONGEST_WAIT
        return self._stage.clock.now() - datetime.fromisoformat(occurrence.at) >= longest

    def _late(self, occurrence: Occurrence) -> str:
        late = Duration.between(datetime.fromisoformat(occurrence.at), self._stage.clock.now())
        return f"late by {show_duration(Duration(seconds=late.seconds // 60 * 60))}" if late.seconds >= _LATE else ""
