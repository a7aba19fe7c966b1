"""`run`: takes up what is waiting, once. Everything the command does, callable without it."""

from __future__ import annotations

import json
from collections import ChainMap
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from contextlib import contextmanager
from datetime import datetime, timedelta
from functools import partial
from pathlib import Path
from typing import Any, Protocol
from zoneinfo import ZoneInfo

from msgspec import Struct, field

from whenvoca.calendars.state import event_key, from_state, split_key
from whenvoca.engine.asking import Question
from whenvoca.engine.batch import Batch, RunResult, SavingFile
from whenvoca.engine.brake import Held, could_pass, is_halved, kinds_counted, limits_of, to_held
from whenvoca.engine.checking import written_columns
from whenvoca.engine.clock import Clock
from whenvoca.engine.effects import Receipt
from whenvoca.engine.faces import SheetFace
from whenvoca.engine.health import read_health
from whenvoca.engine.identity import Lineage
from whenvoca.engine.ledger import Journal, Ledger, Occurrence
from whenvoca.engine.ledger_sqlite import SqliteLedger
from whenvoca.engine.lock import worker_lock
from whenvoca.engine.observing import Sight, observe_calendar, observe_chat, observe_sheet, take_up
from whenvoca.engine.presence import end_turn, turns
from whenvoca.engine.program import Program
from whenvoca.engine.sources import CalendarSource, MessageSource, NoSource, SheetSource, Source, to_sources
from whenvoca.engine.stage import LiveStage, StagePlaces
from whenvoca.engine.starting import holds
from whenvoca.engine.starts import CLOCK, TakenUp, take_up_clock, take_up_starts
from whenvoca.engine.workspace import Workspace
from whenvoca.errors import ExitCode, PlaceTrouble, RequestFault, SettingsFault, WhenvocaError
from whenvoca.language import tree
from whenvoca.language.definitions import EVERY_PLACE
from whenvoca.language.evaluation import Scope
from whenvoca.language.inference import fold_name
from whenvoca.values.texts import show_value
from whenvoca.values.zones import load_zone

LOCK_PATIENCE = 60.0
_MOST_LISTED = 12
_OFFERED = timedelta(days=366)  # how far around now events are offered to be chosen from
_ROUNDS = 20  # how often workflows may set each other off within one command
_FIRST_PAUSE = 1.0  # seconds before what trouble at a server has ended is tried again; then twice as long each time


class OpenPlaces(StagePlaces, Protocol):
    """The places of a workspace, opened."""

    @property
    def files(self) -> Sequence[SavingFile]:
        """The files behind the sheets."""

    def hash_of(self, file: str) -> str:
        """The hash of a file as it stands, empty if there is none."""

    def sweep(self) -> None:
        """Takes away temporaries that a crash left."""

    def rehearsed(self, instead: Mapping[str, Path] | None = None) -> OpenPlaces:
        """The same places, read for real, where a write is only remembered; ``instead`` names other files for sheets."""


class Outcome(Struct):
    """What one `run` did."""

    results: list[RunResult] = field(default_factory=list)  # all that did not go well, and as many others as are told
    counts: dict[str, int] = field(default_factory=dict)  # of all, by outcome
    faults: list[str] = field(default_factory=list)  # rows that cannot be taken up
    waits: list[str] = field(default_factory=list)  # rows without their key
    unanswered: int = 0  # rows whose last run failed and that nobody has changed since
    troubles: list[str] = field(default_factory=list)  # places that could not be looked at
    held: list[Held] = field(default_factory=list)  # batches that the brake holds
    told: dict[str, list[str]] = field(
        default_factory=dict
    )  # what is wrong with the data of each place that was looked at
    seen: int = 0  # whether anything had changed at the places

    def hear(self, result: RunResult, most: int) -> None:
        """Counts a run that ended, and keeps it to be told."""
        self.counts[result.outcome] = self.counts.get(result.outcome, 0) + 1
        if result.outcome != "done" or len(self.results) < most:
            self.results.append(result)

    @property
    def is_unreachable(self) -> bool:
        """Whether a place could not be reached or written."""
        return bool(self.troubles) or any(result.trouble is not None for result in self.results)

    @property
    def exit_code(self) -> ExitCode:
        """0, 1 if a run failed or waits for a setting, 3 if a place could not be reached, 4 if the brake holds a batch."""
        if self.is_unreachable:
            return ExitCode.UNREACHABLE
        if self.held:
            return ExitCode.NEEDS_YES
        failed = self.faults or self.counts.get("failed") or self.counts.get("waiting")
        return ExitCode.FAILED if failed else ExitCode.DONE


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
            yield ledger
        finally:
            ledger.close()


@contextmanager
def hold_ledger(workspace: Workspace, clock: Clock, tell: Callable[[str], None]) -> Iterator[Ledger]:
    """The ledger for a process that keeps it: commands that it carries out for others use the same one."""
    if (health := read_health(workspace)) is not None:
        raise PlaceTrouble(
            f"this workspace is watched already, by process {health['process']} since {str(health['since'])[:16].replace('T', ' ')}",
            where=str(workspace.folder), mend="stop that one first (Ctrl-C, or SIGTERM)",
        )  # fmt: skip
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
        what, where=str(workspace.folder),
        mend="whenvoca claim goes on as that workspace; whenvoca claim --new-root makes this one a workspace of its own",
    )  # fmt: skip


def claim_home(ledger: Ledger, workspace: Workspace) -> None:
    """Remembers this machine and folder as the ledger's home."""
    ledger.set_meta("home", json.dumps(home_of(workspace)))


class Candidate(Struct, frozen=True):
    """A subject that may be chosen: its key, and what people know it by."""

    key: str
    label: str
    said: str


def nobody_answers(question: Question) -> Any:
    """Where nobody can be asked: the default holds. Raises RequestFault where there is none."""
    if question.default is not None:
        return question.default
    raise RequestFault(f'"{question.name}" is not given: {question.text}', mend=f"--give {question.name}=…")


def nobody_picks(what: str, candidates: Sequence[Candidate]) -> str:
    """Where nobody can be asked which one. Raises RequestFault, with a list of what there is."""
    listed = "; ".join(each.said for each in candidates[:_MOST_LISTED])
    more = f" and {len(candidates) - _MOST_LISTED} more" if len(candidates) > _MOST_LISTED else ""
    option = "--row" if what == "row" else "--event"
    raise RequestFault(f"which {what} is meant? There are: {listed}{more}", mend=f"choose by {option}")


class Choice(Struct, frozen=True):
    """The only subjects that a command is about: rows by their number in the sheet, events by UID, or any by key."""

    rows: frozenset[int] = frozenset()
    keys: frozenset[str] = frozenset()


class Request(Struct, frozen=True):
    """What a command wants of a run: which subjects, and whether what the brake holds may go. ``kept`` is of how many
    runs that went well each is told by itself; all are counted. ``is_rehearsal``: it runs where nothing is written."""

    choice: Choice | None = None
    only: frozenset[str] | None = None  # keys of subjects: what else waits goes on waiting
    allow: Callable[[Held], bool] = lambda held: False
    brake_span: timedelta = timedelta()  # over how long the brake counts, besides the batch at hand
    by_hand: frozenset[str] = frozenset()  # workflows that are started now, once: by the clock, or asked
    answer: Callable[[Question], Any] = nobody_answers
    pick: Callable[[str, Sequence[Candidate]], str] = nobody_picks
    kept: int = 200
    is_rehearsal: bool = False
    look: frozenset[str] | None = None  # lower-case names of the only places that are looked at; None: all
    stop: Callable[[], bool] = lambda: False  # whether to end when the step at hand is done
    progress: Callable[[int, int], None] = lambda done, total: None


_EVERYTHING = Request()


def run_workflows(
    workspace: Workspace, workflows: Sequence[tree.Workflow], places: OpenPlaces, ledger: Ledger, clock: Clock,
    request: Request = _EVERYTHING,
) -> Outcome:  # fmt: skip
    """Takes up what is waiting for these workflows and runs it, until nothing new is set off."""
    return _Working(workspace, workflows, places, ledger, clock, request).work()


class _Working:
    def __init__(
        self, workspace: Workspace, workflows: Sequence[tree.Workflow], places: OpenPlaces, ledger: Ledger, clock: Clock,
        request: Request,
    ) -> None:  # fmt: skip
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
        self._batch = self._new_batch()

    def work(self) -> Outcome:
        """Rounds of looking, taking up and running, until nothing new comes of it."""
        if not self._request.is_rehearsal:
            _finish_saves(self._ledger, self._places, self._clock.now())
            if any(each.watches in ("starts", "ends", "clock") for each in self._programs):
                check_time(self._ledger, self._clock)
        pause = _FIRST_PAUSE
        for round_number in range(_ROUNDS):
            if self._request.stop():
                break
            new = self._look(first=round_number == 0)
            if not new and not self._batch.again and round_number:
                break
            self._batch = self._new_batch()
            if round_number == 0:
                self._start_by_hand()
            self._settle_presence()
            self._run_all()
            self._settle_presence()
            saved = self._batch.save_files(self._places.sheets)
            if self._batch.again:
                self._clock.wait(pause)
                pause *= 2
            elif not saved or any(result.trouble is not None for result in self._outcome.results):
                break
        for each in self._programs:
            for source in each.sources.values():
                if isinstance(source, SheetSource) and not self._request.is_rehearsal:
                    source.sheet.info()  # remembered, so that the next run need not read what stands unchanged
        for each in self._programs:
            self._outcome.unanswered += len(self._ledger.failed_writes(each.identity))
        return self._outcome

    def _new_batch(self) -> Batch:
        return Batch(
            ledger=self._ledger, stage=self._stage, clock=self._clock, files=lambda: self._places.files, root=self._workspace.root,
            people=self._workspace.people, tell=lambda result: self._outcome.hear(result, self._request.kept),
            progress=self._count, kept=self._request.kept, stop=self._request.stop,
        )  # fmt: skip

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
            self._batch.chosen = chosen
            self._batch.ask = partial(self._answer, each)
            self._batch.run_waiting(each.program, each.sources, each.zone, self._places.sheets)

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
        """Asks what the workflow asks before its first step, so that nothing is done where somebody has to answer first."""
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
        for turn in turns(self._ledger, self._stage, self._workspace.people, self._clock.now()):
            if turn.effect is not None:
                record = self._ledger.begin_return(
                    turn.ended[-1].workflow, turn.place, turn.person, self._clock.now().isoformat()
                )
                if not self._batch.give_back(record, turn.effect):
                    continue
            end_turn(self._ledger, turn)

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
            request = Request(kept=10**9, is_rehearsal=True, choice=self._request.choice)
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
        """What the workflow did in the last minutes, by what the brake counts: where batches follow each other by themselves."""
        if not self._request.brake_span:
            return {}
        since = (self._clock.now() - self._request.brake_span).isoformat()
        done = self._ledger.verbs_since(each.identity, since)
        return {what: sum(done.get(verb, 0) for verb in verbs) for what, verbs in kinds_counted().items()}


def _chosen_of(choice: Choice, source: Source) -> set[str]:
    """The keys of the chosen subjects that stand at a place. Raises RequestFault for a row that is none."""
    keys = {key for key in choice.keys if source.current(key) is not None}
    if not choice.rows:
        return keys
    if not isinstance(source, SheetSource):
        raise RequestFault(f"{source.name} holds events, not rows", mend="choose by --event UID")
    found = {number: source.sheet.key_of_row(number) for number in sorted(choice.rows)}
    if missing := [str(number) for number, key in found.items() if key is None]:
        raise RequestFault(f"{source.name} has no row {', '.join(missing)} that holds data")
    return keys | {key for key in found.values() if key}


class OpenProgram(Struct):
    """A workflow ready to run, with the places that its trigger looks at."""

    program: Program
    sources: dict[str, Source]
    written: dict[str, list[str]]  # columns that it writes, by lower-case place

    @property
    def identity(self) -> str:
        """The name that stands in identities."""
        return self.program.workflow.identity

    @property
    def zone(self) -> ZoneInfo | None:
        """The zone in which the workflow says its times are meant; None: that of the place."""
        name = self.program.workflow.settings.zone
        return load_zone(name) if name else None

    @property
    def subject_word(self) -> str:
        """What it is about: row, event."""
        trigger = self.program.workflow.trigger
        return trigger.definition.subject if trigger else ""

    @property
    def watches(self) -> str:
        """What its trigger looks at."""
        trigger = self.program.workflow.trigger
        return trigger.definition.watches if trigger else ""

    @property
    def first_happening(self) -> str:
        """What a subject that is chosen by hand counts as."""
        trigger = self.program.workflow.trigger
        return trigger.happenings[0] if trigger else "gained"

    def take_up(self, source: Source, ledger: Ledger, places: OpenPlaces, now: datetime, root: str) -> TakenUp:
        """Finds the occurrences among what the workflow has not looked at yet."""

        def made() -> dict[str, str]:
            return _made_by_mirrors(self.program, places, ledger, root)

        zone = self.zone or source.zone
        if self.watches == "hand":
            return TakenUp()
        if self.watches == "clock":
            return take_up_clock(ledger, self.program, now, zone)
        if self.watches in ("starts", "ends"):
            assert isinstance(source, CalendarSource)
            return take_up_starts(ledger, self.program, source, now, zone)
        written = self.written.get(source.name.lower(), [])
        return take_up(ledger, self.program, source, now, self.zone or source.zone, written, made)


def _made_by_mirrors(program: Program, places: OpenPlaces, ledger: Ledger, root: str) -> dict[str, str]:
    """What stands of a workflow's mirrors, by subject: the events' and tasks' UIDs, the rows' keys."""
    found: dict[str, str] = {}
    prefix = Lineage.prefix(root, program.workflow.identity)
    for step in program.mirrors:
        name = step.places[-1].lower()
        if step.definition.thing == "row":
            sheet = places.sheets[name]
            standing = set(sheet.keys())
            marks = {mark: key for mark, key in ledger.marks_made(sheet.name, prefix).items() if key in standing}
        else:
            face = places.tasks[name] if step.definition.thing == "task" else places.calendars[name]
            marks = face.find_marks(prefix)
        for mark, uid in marks.items():
            lineage = Lineage.from_mark(mark)
            if lineage is not None and lineage.step == step.path:
                found[lineage.subject] = uid
    return found


def open_program(workflow: tree.Workflow, places: OpenPlaces, ledger: Ledger, zone: ZoneInfo) -> OpenProgram:
    """The workflow ready to run, its names bound to the columns of the real sheets; ``zone`` is the workspace's."""
    assert workflow.trigger is not None
    every = [name.lower() for name in places.calendars]
    names = [each.lower() for name in workflow.trigger.places for each in (every if name == EVERY_PLACE else [name])]
    dated: Any = ChainMap(places.calendars, places.tasks)  # type: ignore[arg-type]  # read only
    sources = to_sources(names, places.sheets, dated, places.chats, ledger)
    if not workflow.trigger.places:
        none = NoSource(CLOCK if workflow.trigger.definition.watches == "clock" else "hand", zone)
        sources = {none.name: none}

    def columns_of(place: str) -> frozenset[str]:
        return frozenset(fold_name(word) for word in places.sheets[place].info().by_word)

    fields = next(iter(sources.values())).fields if sources else frozenset()
    return OpenProgram(Program(workflow, fields, columns_of), sources, written_columns([workflow]))


def observe(ledger: Ledger, source: Source, now: datetime) -> Sight:
    """Looks at a place and enters what changed into the log."""
    if isinstance(source, NoSource):
        return Sight()
    if isinstance(source, SheetSource):
        return observe_sheet(ledger, source.sheet, now)
    if isinstance(source, MessageSource):
        return observe_chat(ledger, source.chat, now)
    assert isinstance(source, CalendarSource)
    return observe_calendar(ledger, source.calendar, now)


def check_time(ledger: Ledger, clock: Clock) -> None:
    """A ledger is on real or on played time, never both: a moment that was played would be missing in earnest."""
    kind = "played" if clock.is_played else "real"
    known = ledger.meta("time")
    if known and known != kind:
        was = "was played through with --now" if known == "played" else "runs in real time"
        raise SettingsFault(
            f"this workspace {was}, and its workflows wait for moments: the two do not go together", where="the ledger",
            mend="whenvoca claim --real-time goes on in real time" if known == "played" else "play in a copy of the "
            "workspace: claim --new-root",
        )  # fmt: skip
    if not known:
        ledger.set_meta("time", kind)


def _said_of(source: Source, key: str, state: Mapping[str, Any]) -> str:
    """A subject in a list that somebody chooses from."""
    if isinstance(source, SheetSource):
        cells = [show_value(value) for value in state.values() if value is not None]
        return f"row {source.sheet.number_of(key) + 1} ({', '.join(cells[:4])})"
    event = from_state(state)
    return f'"{event.title}" {show_value(event.start)} ({key})'


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
        if effect.place == sheet.name and effect.verb in ("change row", "delete row")
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
