"""`run`: takes up what is waiting, once. Everything the command does, callable without it."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from datetime import timedelta
from functools import partial
from typing import Any

from whenvoca.calendars.state import event_key, from_state, split_key
from whenvoca.engine.acting.questions import Question
from whenvoca.engine.acting.stage import LiveStage
from whenvoca.engine.clock import Clock
from whenvoca.engine.ledger.protocol import Ledger, Occurrence
from whenvoca.engine.running.batch import RunGroup
from whenvoca.engine.running.brake import Held, could_pass, is_halved, kinds_counted, limits_of, to_held
from whenvoca.engine.running.open_program import OpenPlaces, OpenProgram, observe, open_program
from whenvoca.engine.running.outcome import Outcome, RunResult
from whenvoca.engine.running.presence import note_presence_change, presence_changes
from whenvoca.engine.running.run_input import holds
from whenvoca.engine.running.run_options import Candidate, RunOptions, SubjectChoice
from whenvoca.engine.running.save_recovery import finish_saves
from whenvoca.engine.seeing.sources import CalendarSource, SheetSource, Source
from whenvoca.engine.workspace.ledger_home import check_time
from whenvoca.engine.workspace.settings import Workspace
from whenvoca.errors import PlaceTrouble, RequestFault
from whenvoca.language import tree
from whenvoca.language.evaluation import Scope
from whenvoca.values.texts import show_value

_OFFERED = timedelta(days=366)  # how far around now events are offered to be chosen from
_ROUNDS = 20  # how often workflows may set each other off within one command
_FIRST_PAUSE = 1.0  # seconds before what trouble at a server has ended is tried again; then twice as long each time


_EVERYTHING = RunOptions()


def run_workflows(
    workspace: Workspace,
    workflows: Sequence[tree.Workflow],
    places: OpenPlaces,
    ledger: Ledger,
    clock: Clock,
    request: RunOptions = _EVERYTHING,
) -> Outcome:
    """Takes up what is waiting for these workflows and runs it, until nothing new is set off."""
    return Runner(workspace, workflows, places, ledger, clock, request).work()


class Runner:
    def __init__(
        self,
        workspace: Workspace,
        workflows: Sequence[tree.Workflow],
        places: OpenPlaces,
        ledger: Ledger,
        clock: Clock,
        request: RunOptions,
    ) -> None:
        self._workspace, self._places, self._ledger, self._clock = workspace, places, ledger, clock
        self._request = request
        self._outcome = Outcome()
        self._stage = LiveStage(places, ledger, clock, workspace)
        paused = ledger.pauses()
        self._programs = [
            open_program(workflow, places, ledger, workspace.zone)
            for workflow in workflows
            if workflow.identity not in paused
        ]
        self._answers: dict[tuple[str, str], Any] = {}  # by workflow and question, given before anything was done
        self._held: set[str] = set()
        self._away: dict[str, str] = {}  # places that could not be looked at, with the reason
        self._chosen: dict[str, frozenset[str]] = {}  # by workflow: the keys that alone run
        self._done = self._total = 0
        self._group = self._new_group()

    def work(self) -> Outcome:
        """Rounds of looking, taking up and running, until nothing new comes of it."""
        if not self._request.is_rehearsal:
            finish_saves(self._ledger, self._places, self._clock.now())
            if any(each.watches in ("starts", "ends", "clock") for each in self._programs):
                check_time(self._ledger, self._clock)
        pause = _FIRST_PAUSE
        for round_number in range(_ROUNDS):
            if self._request.stop():
                break
            new = self._look(first=round_number == 0)
            if not new and not self._group.retries_due and round_number:
                break
            self._group = self._new_group()
            if round_number == 0:
                self._start_by_hand()
            self._settle_presence()
            self._run_all()
            self._settle_presence()
            saved = self._group.save_files(self._places.sheets)
            if self._group.retries_due:
                self._clock.wait(pause)
                pause *= 2
            elif not saved or any(result.trouble is not None for result in self._outcome.results):
                break
        for each in self._programs:
            for source in each.sources.values():
                if isinstance(source, SheetSource) and not self._request.is_rehearsal:
                    source.sheet.info()  # remembered, so that the next run need not read what stands unchanged
        for each in self._programs:
            self._outcome.unanswered += self._ledger.count_unanswered(each.identity)
        return self._outcome

    def _new_group(self) -> RunGroup:
        return RunGroup(
            ledger=self._ledger,
            stage=self._stage,
            clock=self._clock,
            files=lambda: self._places.files,
            root=self._workspace.root,
            people=self._workspace.people,
            tell=lambda result: self._outcome.hear(result, self._request.kept),
            progress=self._count,
            kept=self._request.kept,
            stop=self._request.stop,
        )

    def _count(self, ended: int) -> None:
        self._done += ended
        self._request.progress(self._done, self._total)

    # --- looking

    def _look(self, *, first: bool) -> int:
        """Looks at every place once, then lets every workflow take up what that is for it."""
        now = self._clock.now()
        self._away = {}
        for source in {source.name: source for each in self._programs for source in each.sources.values()}.values():
            if self._request.look is not None and source.name.lower() not in self._request.look:
                continue
            try:
                before = self._ledger.last_sequence(source.name)
                sight = observe(self._ledger, source, now)
                self._outcome.seen += self._ledger.last_sequence(source.name) - before
            except PlaceTrouble as trouble:
                self._away[source.name] = str(trouble)
                continue
            if first:
                self._outcome.faults += sight.faults
                self._outcome.waits += sight.waits
                self._outcome.told[source.name.lower()] = [*sight.faults, *sight.waits]
        self._outcome.troubles = list(self._away.values())
        new = 0
        for each in self._programs:
            for source in each.sources.values():
                if source.name in self._away:
                    continue
                taken = each.take_up(source, self._ledger, self._places, now, self._workspace.root)
                self._outcome.faults += taken.circles
                new += taken.new
                for missed in taken.missed:
                    reason = f"was due at {missed.at[:16].replace('T', ' ')}"
                    self._outcome.hear(RunResult(each.identity, missed.label, "missed", reason), self._request.kept)
        return new

    # --- running

    def _run_all(self) -> None:
        waiting = {each.identity: self._ledger.count_waiting(each.identity) for each in self._programs}
        self._total = self._done + sum(waiting.values())
        for each in self._programs:
            if each.identity in self._held or not (self._request.choice or self._ledger.count_waiting(each.identity)):
                continue
            if each.sources and all(name in self._away for name in each.sources):
                continue
            for source in each.sources.values():
                source.prepare()
            chosen = self._choose(each)
            if (held := self._hold(each)) is not None and not self._request.allow(held):
                self._held.add(each.identity)
                self._outcome.held.append(held)
                continue
            self._group.chosen = chosen
            self._group.ask = partial(self._answer, each)
            self._group.run_waiting(each.program, each.sources, each.zone, self._places.sheets)

    # --- by hand

    def _start_by_hand(self) -> None:
        """Starts what is asked for: a workflow by the clock or by hand once, about what is chosen."""
        now = self._clock.now()
        for each in self._programs:
            if each.identity not in self._request.by_hand or each.watches not in ("clock", "hand"):
                continue
            trigger = each.program.workflow.trigger
            assert trigger is not None
            if trigger.is_about:
                if self._request.choice is None:
                    self._chosen[each.identity] = frozenset([self._pick(each)])
                    self._wake(each, self._chosen[each.identity])
                continue
            if each.watches == "clock" and self._ledger.count_waiting(each.identity):
                continue  # its moment has come by itself
            self._ask_before(each)
            number = self._ledger.newest_number() + 1
            zone = each.zone or self._workspace.zone
            at = now.astimezone(zone).isoformat()
            place = next(iter(each.sources))
            label = f"by hand {now.astimezone(zone):%a %d %b %H:%M}"
            fresh = Occurrence(
                each.identity, place, f"by hand {number}", -number, at, each.first_happening, label=label
            )
            self._ledger.add_occurrences([fresh], once=False)

    def _ask_before(self, each: OpenProgram) -> None:
        """Asks what the workflow asks before its first step, so that nothing is done where somebody has to answer
        first."""
        zone = each.zone or self._workspace.zone
        scope = Scope(None, "", self._clock.now(), zone)
        for question, name in each.program.first_questions(scope):
            self._answers[each.identity, question.name] = scope.names[name] = self._request.answer(question)

    def _answer(self, each: OpenProgram, question: Question) -> Any:
        key = (each.identity, question.name)
        return self._answers[key] if key in self._answers else self._request.answer(question)

    def _pick(self, each: OpenProgram) -> str:
        """The one subject that somebody chooses among those that the trigger offers."""
        found: list[Candidate] = []
        now = self._clock.now()
        for source in each.sources.values():
            source.prepare()
            for key in self._offered(each, source):
                state = source.current(key)
                if state is None:
                    continue
                scope = Scope(source.thing(key, state), each.subject_word, now, each.zone or source.zone)
                if holds(each.program, scope):
                    found.append(Candidate(key, source.label(key, state), _said_of(source, key, state)))
        if not found:
            raise RequestFault(f"{each.identity}: there is no {each.subject_word} that it could be about")
        return self._request.pick(each.subject_word, found)

    def _offered(self, each: OpenProgram, source: Source) -> list[str]:
        """What stands at the source; of calendars, what lies in the year around now, occurrences one by one."""
        if not isinstance(source, CalendarSource):
            return [key for key, _ in self._ledger.standing_sequences(source.name)]
        now = self._clock.now()
        events = source.calendar.find_between(now - _OFFERED, now + _OFFERED)
        return [event_key(event.uid, event.occurrence) for event in events if not event.cancelled]

    # --- presence

    def _settle_presence(self) -> None:
        """Gives people back what they showed, where every claim on it has ended."""
        for change in presence_changes(self._ledger, self._stage, self._workspace.people, self._clock.now()):
            if change.effect is not None:
                record = self._ledger.begin_manual_run(
                    change.ended[-1].workflow, change.place, change.person, self._clock.now().isoformat()
                )
                if not self._group.restore_presence(record, change.effect):
                    continue
            note_presence_change(self._ledger, change)

    def _choose(self, each: OpenProgram) -> frozenset[str] | None:
        """The keys of the only subjects that run now, each made to wait if it does not; None: all that wait."""
        choice = self._request.choice
        if choice is None:
            return self._request.only
        if each.identity in self._chosen:
            return self._chosen[each.identity]
        keys: set[str] = set()
        for source in each.sources.values():
            keys |= _chosen_of(choice, source)
        self._wake(each, keys)
        if choice.keys - keys:
            raise RequestFault(f"there is no {each.subject_word} {', '.join(sorted(choice.keys - keys))}")
        self._chosen[each.identity] = frozenset(keys)
        return self._chosen[each.identity]

    def _wake(self, each: OpenProgram, keys: Collection[str]) -> None:
        """Makes these subjects wait, each with its newest occurrence, or a first one."""
        for source in each.sources.values():
            standing = dict(self._ledger.standing_sequences(source.name))
            for key in sorted(keys):
                state = source.current(key)
                if state is None or (key not in standing and split_key(key)[0] not in standing):
                    continue
                if number := self._ledger.newest(each.identity, source.name, key):
                    self._ledger.wake(number)
                else:
                    at = self._clock.now().isoformat()
                    sequence = standing.get(key) or standing[split_key(key)[0]]
                    fresh = Occurrence(
                        each.identity,
                        source.name,
                        key,
                        sequence,
                        at,
                        each.first_happening,
                        label=source.label(key, state),
                    )
                    self._ledger.add_occurrences([fresh])

    # --- the brake

    def _count_leaving(self, each: OpenProgram) -> int:
        """How many waiting subjects are not in the workflow's set now."""
        count, after = 0, 0
        word = each.subject_word
        while occurrences := self._ledger.waiting(each.identity, 1000, after):
            after = occurrences[-1].number
            for occurrence in occurrences:
                source = each.sources[occurrence.place]
                state = source.current(occurrence.subject)
                scope_zone = each.zone or source.zone
                if state is None:
                    count += 1
                    continue
                scope = Scope(source.thing(occurrence.subject, state), word, self._clock.now(), scope_zone)
                count += not holds(each.program, scope)
        return count

    def _hold(self, each: OpenProgram) -> Held | None:
        """What the brake holds of a batch: it is rehearsed first where it could pass a limit."""
        if self._request.is_rehearsal:
            return None
        limits = limits_of(each.program.workflow)
        count = self._ledger.count_waiting(each.identity)
        orphans = self._ledger.count_orphaned(each.identity)
        lost = self._ledger.count_orphaned(each.identity, "lost")
        left = (
            sum(1 for source in each.sources.values() for _ in self._ledger.standing_sequences(source.name))
            if lost
            else 0
        )
        halved = is_halved(lost, left)
        recent = self._recent(each)
        bounded = {what: limit - recent.get(what, 0) for what, limit in limits.items()}
        if (
            not orphans
            and not halved
            and not could_pass(each.program.workflow, bounded, count, lambda: self._count_leaving(each))
        ):
            return None
        rehearsed = self._places.rehearsed()
        copy = self._ledger.copy()
        try:
            request = RunOptions(kept=10**9, is_rehearsal=True, choice=self._request.choice)
            outcome = run_workflows(self._workspace, [each.program.workflow], rehearsed, copy, self._clock, request)
        finally:
            copy.close()
        own = [run for run in outcome.results if run.workflow == each.identity]
        return to_held(
            each.program.workflow.name,
            limits,
            [effect for run in own for effect in run.effects],
            orphans,
            halved=halved,
            recent=recent,
        )

    def _recent(self, each: OpenProgram) -> dict[str, int]:
        """What the workflow did in the last minutes, by what the brake counts: where batches follow each other by
        themselves."""
        if not self._request.brake_span:
            return {}
        since = (self._clock.now() - self._request.brake_span).isoformat()
        done = self._ledger.verbs_since(each.identity, since)
        return {what: sum(done.get(verb, 0) for verb in verbs) for what, verbs in kinds_counted().items()}


def _chosen_of(choice: SubjectChoice, source: Source) -> set[str]:
    """The keys of the chosen subjects that stand at a place. Raises RequestFault for a row that is none."""
    keys = {key for key in choice.keys if source.current(key) is not None}
    if not choice.rows:
        return keys
    if not isinstance(source, SheetSource):
        raise RequestFault(f"{source.name} holds events, not rows", fix="choose by --event UID")
    found = {number: source.sheet.key_of_row(number) for number in sorted(choice.rows)}
    if missing := [str(number) for number, key in found.items() if key is None]:
        raise RequestFault(f"{source.name} has no row {', '.join(missing)} that holds data")
    return keys | {key for key in found.values() if key}


def _said_of(source: Source, key: str, state: Mapping[str, Any]) -> str:
    """A subject in a list that somebody chooses from."""
    if isinstance(source, SheetSource):
        cells = [show_value(value) for value in state.values() if value is not None]
        return f"row {source.sheet.number_of(key) + 1} ({', '.join(cells[:4])})"
    event = from_state(state)
    return f'"{event.title}" {show_value(event.start)} ({key})'
