"""`run`: takes up what is waiting, once. Everything the command does, callable without it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import suppress
from functools import partial

from whenvoca.engine.acting.keyed import Performing
from whenvoca.engine.acting.workspace_stage import WorkspaceStage
from whenvoca.engine.effects import Effect, EffectKey
from whenvoca.engine.ledger.records import Occurrence
from whenvoca.engine.running.answers import AnswerIntake
from whenvoca.engine.running.brake import NO_LOSSES, Held, Losses, could_pass, limits_of, to_held
from whenvoca.engine.running.choosing import Choosing
from whenvoca.engine.running.keeping_up import keep_up
from whenvoca.engine.running.looking import look
from whenvoca.engine.running.open_program import OpenProgram, open_program
from whenvoca.engine.running.outcome import HeldBack, Outcome
from whenvoca.engine.running.patience import Patience
from whenvoca.engine.running.presence import note_presence_change, presence_changes
from whenvoca.engine.running.run_group import RunGroup
from whenvoca.engine.running.run_input import holds
from whenvoca.engine.running.run_options import RunOptions
from whenvoca.engine.running.save_recovery import finish_saves
from whenvoca.engine.seeing.email_source import observe_mailbox
from whenvoca.engine.workspace.ledger_home import check_time
from whenvoca.errors import PlaceTrouble
from whenvoca.language import tree

_ROUNDS = 20  # how often workflows may set each other off within one command
_FIRST_PAUSE = 1.0  # seconds before what trouble at a server has ended is tried again; then twice as long each time
_EVERYTHING = RunOptions()
_OF_MAILBOXES = ("email", "invitation", "answer")  # what comes in by them


def run_workflows(
    stage: WorkspaceStage, workflows: Sequence[tree.Workflow], options: RunOptions = _EVERYTHING
) -> Outcome:
    """Takes up what is waiting for these workflows and runs it, until nothing new is set off. Raises RequestFault where
    what is chosen is not there or nobody answers, SettingsFault where real and played time are mixed."""
    return _Runner(stage, workflows, options).work()


class _Runner:
    def __init__(self, stage: WorkspaceStage, workflows: Sequence[tree.Workflow], options: RunOptions) -> None:
        self._stage, self._options = stage, options
        self._outcome = Outcome()
        paused = stage.ledger.pauses()
        self._programs = [open_program(each, stage) for each in workflows if each.identity not in paused]
        self._choosing = Choosing(stage, options)
        self._held: set[str] = set()
        self._away: set[str] = set()  # places that could not be looked at
        self._done = self._total = 0
        self._group = self._new_group()

    def work(self) -> Outcome:
        """Rounds of looking, taking up and running, until nothing new comes of it."""
        if not self._options.is_rehearsal:
            finish_saves(self._stage)
            if any(each.strategy.is_timed for each in self._programs):
                check_time(self._stage.ledger, self._stage.clock)
        pause = _FIRST_PAUSE
        for number in range(_ROUNDS):
            if self._options.stop():
                break
            self._settle_answers()
            new, self._away = look(self._stage, self._programs, self._options, self._outcome, first=number == 0)
            if not new and not self._group.retries_due and number:
                break
            self._group = self._new_group()
            for each in self._programs if number == 0 else ():
                self._choosing.start(each)
            self._settle_presence()
            self._keep_up()
            self._run_all()
            self._settle_presence()
            saved = self._group.save_files()
            if self._group.retries_due:
                self._stage.clock.wait(pause)
                pause *= 2
            elif not saved or any(result.trouble is not None for result in self._outcome.results):
                break
        for each in self._programs:
            for source in each.sources.values() if not self._options.is_rehearsal else ():
                source.remember()
            self._outcome.unanswered += self._stage.ledger.count_unanswered(each.identity)
            self._outcome.held_back += self._held_back(each)
        return self._outcome

    def _held_back(self, each: OpenProgram) -> Iterator[HeldBack]:
        """Subjects that stand and do not run, since their runs were taken back."""
        for key in self._stage.ledger.undone_subjects(each.identity):
            for source in each.sources.values():
                if (state := source.current(key)) is not None:
                    yield HeldBack(each.workflow.name, each.trigger.subject, key, source.label(key, state))

    def _new_group(self) -> RunGroup:
        return RunGroup(
            self._stage,
            lambda result: self._outcome.hear(result, self._options.kept),
            progress=self._count,
            kept=self._options.kept,
            stop=self._options.stop,
            patience=self._options.patience,
        )

    def _count(self, ended: int) -> None:
        self._done += ended
        self._options.progress(self._done, self._total)

    def _run_all(self) -> None:
        ledger = self._stage.ledger
        self._total = self._done + sum(ledger.count_waiting(each.identity) for each in self._programs)
        for each in self._programs:
            if each.identity in self._held or not (self._options.choice or ledger.count_waiting(each.identity)):
                continue
            if each.sources and all(name in self._away for name in each.sources):
                continue
            for source in each.sources.values():
                source.prepare()
            chosen = self._choosing.keys(each)
            if (held := self._hold(each)) is not None and not self._options.allow(held):
                self._held.add(each.identity)
                self._outcome.held.append(held)
                continue
            self._group.run_waiting(
                each,
                chosen=chosen,
                ask=partial(self._choosing.answer, each),
                asks_anew=each.identity in self._options.by_hand,
            )

    def _settle_answers(self) -> None:
        """AnswerIntake that came into mailboxes are put on their events, before workflows look for them."""
        stage, told = self._stage, self._outcome.faults
        is_wanted = any(each.trigger.subject in _OF_MAILBOXES for each in self._programs)
        if self._options.is_rehearsal and not is_wanted:
            return
        for mailbox in stage.places.mailboxes.values():
            if self._options.look is not None and mailbox.name.lower() not in self._options.look:
                continue
            try:
                noticed = observe_mailbox(stage.ledger, mailbox, stage.clock.now())
            except PlaceTrouble as trouble:
                if not any(mailbox.name in each.sources for each in self._programs):
                    self._outcome.waits.append(f"{mailbox.name} was not looked at: {trouble}")
                continue
            told += noticed.faults
            AnswerIntake(stage, self._group.perform, told).take_up(mailbox.name)

    def _settle_presence(self) -> None:
        """What people showed before comes back, where every claim on it has ended; each in a run of its own."""
        for change in presence_changes(self._stage):
            if change.effect is not None:
                at = self._stage.clock.now().isoformat()
                run = self._stage.ledger.begin_manual_run(change.ended[-1].workflow, change.place, change.person, at)
                occurrence = Occurrence(
                    "presence", change.place, change.person, 0, at, number=-1, run=run, label=change.person
                )
                if self._group.perform(occurrence, _alone(change.effect)).outcome != "done":
                    continue
            elif change.shown is None and (person := self._stage.person_of(change.person)) is not None:
                with suppress(PlaceTrouble):  # it ends with the connection then
                    self._stage.stop_showing(change.place, person)
            note_presence_change(self._stage.ledger, change)

    def _keep_up(self) -> None:
        """What was made for events keeps up with them."""
        look = self._options.look
        known = set(self._stage.places.calendars)
        calendars = [name for name in self._stage.workspace.places if name.lower() in known]
        calendars = [name for name in calendars if look is None or name.lower() in look]
        told = {name for each in self._programs for name in each.sources}
        self._outcome.waits += keep_up(self._stage, calendars, self._group.perform, told)

    # --- the brake

    def _hold(self, each: OpenProgram) -> Held | None:
        """What the brake holds of a group of runs: they are rehearsed first where they could pass a limit."""
        ledger, kinds = self._stage.ledger, self._stage.kinds
        losses = self._find_losses(each)
        if self._options.is_rehearsal:
            if losses != NO_LOSSES:
                self._outcome.losses.setdefault(each.identity, losses)
            return None
        limits = limits_of(each.workflow, kinds)
        recent = self._recent(each, limits)
        bounded = {what: limit - recent.get(what, 0) for what, limit in limits.items()}
        waiting = ledger.count_waiting(each.identity)
        could = could_pass(each.workflow, bounded, waiting, lambda: self._count_leaving(each), self._invites)
        if losses == NO_LOSSES and not could:
            return None
        effects = self._rehearsed(each)
        return to_held(each.workflow.name, kinds, limits, effects, losses, recent=recent)

    def _invites(self, step: tree.Step) -> bool:
        """Whether invitations may follow from a step: it says so, or its calendar, or it changes what invites."""
        verbs = {kind.verb for kind in step.definition.effects}
        if not verbs & {"create event", "change event"} or not self._stage.places.outboxes:
            return False
        if "create event" not in verbs or any(line.word == "invite" for line in step.fields):
            return True
        calendars = self._stage.places.calendars
        return any(name.lower() in calendars and calendars[name.lower()].invite == "us" for name in step.places)

    def _find_losses(self, each: OpenProgram) -> Losses:
        """What is gone of its subjects; nothing where nothing waits that could take something away."""
        ledger = self._stage.ledger
        orphans, lost = ledger.count_orphaned(each.identity), ledger.count_orphaned(each.identity, "lost")
        if not orphans and not lost:
            return NO_LOSSES
        if all(source.goes_by_word for source in each.sources.values()):
            return Losses(orphans) if orphans else NO_LOSSES
        standing = sum(_count_standing(each))
        return Losses(orphans, not standing, each.count_kept() if each.program.is_mirror else standing + lost)

    def _rehearsed(self, each: OpenProgram) -> list[Effect]:
        """What the waiting runs of a workflow would do."""
        copy = self._stage.ledger.copy()
        try:
            stage = self._stage.on(self._stage.places.rehearsed(), copy)
            options = RunOptions(
                kept=10**9,
                is_rehearsal=True,
                choice=self._options.choice,
                patience=Patience(self._stage.clock.tick),  # a place that does not answer is not waited for
            )
            outcome = run_workflows(stage, [each.workflow], options)
        finally:
            copy.close()
        return [effect for run in outcome.results if run.workflow == each.identity for effect in run.effects]

    def _recent(self, each: OpenProgram, limits: dict[str, int]) -> dict[str, int]:
        """What the workflow did in the last minutes, by what the brake counts: in `watch`, where runs go on and on."""
        if not self._options.brake_span:
            return {}
        since = (self._stage.clock.now() - self._options.brake_span).isoformat()
        done = self._stage.ledger.verbs_since(each.identity, since)
        counted = {what: self._stage.kinds.counted_as(what) for what in limits}
        return {what: sum(done.get(verb, 0) for verb in verbs) for what, verbs in counted.items()}

    def _count_leaving(self, each: OpenProgram) -> int:
        """How many waiting subjects are not in the workflow's set now."""
        count, after = 0, 0
        while occurrences := self._stage.ledger.waiting(each.identity, 1000, after):
            after = occurrences[-1].number
            for occurrence in occurrences:
                source = each.sources[occurrence.place]
                state = source.current(occurrence.subject)
                if state is None:
                    count += 1
                    continue
                scope = each.scope_of(source, occurrence.subject, state, self._stage.clock.now())
                count += not holds(each.program, scope)
        return count


def _count_standing(each: OpenProgram) -> Iterator[int]:
    for source in each.sources.values():
        yield sum(1 for _ in each.stage.ledger.standing_sequences(source.name))


def _alone(effect: Effect) -> Performing:
    """A run that is one effect."""
    yield EffectKey("presence", "", 1), effect
