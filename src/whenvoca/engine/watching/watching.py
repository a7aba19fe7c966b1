"""`watch`: takes up what is waiting as it comes, for weeks: files, servers and the clock, until it is told to stop."""

from __future__ import annotations

import os
import re
from collections.abc import Callable, Iterable, Sequence
from contextlib import suppress
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any, Protocol

from msgspec import Struct, field

from whenvoca.engine.acting.workspace_stage import WorkspaceStage
from whenvoca.engine.clock import Clock, PlayedClock
from whenvoca.engine.ledger.protocol import Ledger
from whenvoca.engine.ledger.records import Job
from whenvoca.engine.running.open_program import open_program
from whenvoca.engine.running.outcome import Outcome
from whenvoca.engine.running.patience import Patience
from whenvoca.engine.running.presence import next_end
from whenvoca.engine.running.run_options import RunOptions
from whenvoca.engine.running.run_workflows import run_workflows
from whenvoca.engine.workspace.ledger_home import prune_when_due
from whenvoca.engine.workspace.watch_status import end_health, write_health
from whenvoca.errors import WhenvocaError
from whenvoca.language import tree

BRAKE_SPAN = timedelta(minutes=10)
_BREATH = 0.1  # seconds from the beginning of a round to that of the next
_HEALTH_SECONDS = 1.0  # after which the time of the last look is written anew
_LONGEST_NAP = 30.0  # seconds: then the health file is written anew, and a clock that was set is noticed
_POLL = (20.0, 120.0)  # seconds between looks at a server: after a change, and when it has been quiet for long
_TROUBLED = 600.0  # seconds between looks at a server that does not answer, at most
_LOOK_ANYHOW = timedelta(minutes=10)  # files are looked at so often, whether a change was heard of or not


class Waker(Protocol):
    """Waits for something to happen."""

    def watch(self, paths: Iterable[Path]) -> None:
        """From now on hears of changes at these."""

    def wait(self, seconds: float) -> set[Path]:
        """Waits so long at most; answers the paths at which something changed."""

    def poke(self, place: str) -> None:
        """Ends the waiting, from any thread: something happened at that place."""

    def poked(self) -> set[str]:
        """The places at which something happened since this was last asked."""

    @property
    def is_stopped(self) -> bool:
        """Whether the program has been told to stop."""


class Loaded(Struct, frozen=True):
    """The workspace as its files stand: a stage on it, its sound workflows, and what is wrong with the others."""

    stage: WorkspaceStage
    workflows: Sequence[tree.Workflow]
    faults: Sequence[str] = ()


class WatchListener(Protocol):
    """Hears what watching has to say."""

    def outcome(self, outcome: Outcome, at: datetime) -> None:
        """What one round did."""

    def trouble(self, text: str, at: datetime, since: datetime | None = None) -> None:
        """Something is wrong, or right again what was wrong ``since`` then: said once, not every second."""

    def note(self, text: str) -> None:
        """Anything else worth a line."""


class _Pace(Struct):
    """How often a server is looked at."""

    seconds: float = _POLL[0]
    due: float = 0.0


def _is_of(trouble: str, places: frozenset[str]) -> bool:
    """Whether the trouble is of one of these places, or of none."""
    if not trouble.startswith("place: "):
        return True
    name = re.split("[,:]", trouble.removeprefix("place: "), maxsplit=1)[0]
    return name.lower() in places


class Watch(Struct, kw_only=True):
    """One `watch`. ``load`` reads the workspace's files; ``do_job`` does what another process handed over;
    ``after_round`` is called when what had come in has been worked on."""

    load: Callable[[], Loaded]
    ledger: Ledger
    clock: Clock
    waker: Waker
    told: WatchListener
    do_job: Callable[[Job], tuple[int, str, str]]
    after_round: Callable[[Ledger], None] = lambda ledger: None
    until: datetime | None = None
    once: bool = False
    _loaded: Loaded | None = None
    _paces: dict[str, _Pace] = field(default_factory=dict)
    _troubles: dict[str, datetime] = field(default_factory=dict)  # since when
    _patience: Patience | None = None
    _since: str = ""
    _failed: bool = False
    _began: float = float("-inf")  # when the last round did, on the clock's tick
    _health: tuple[float, dict[str, Any]] = (float("-inf"), {})  # when it was told, and what

    def work(self) -> bool:
        """Watches until it is told to stop; answers whether every run went well.

        Raises PlaceTrouble where the ledger cannot be written.
        """
        self._since, self._patience = self.clock.now().isoformat(), Patience(self.clock.tick)
        self.ledger.drop_jobs()
        look: frozenset[str] | None = None  # all places at first
        must_load = True
        last_full = self.clock.now()
        try:
            while not self.waker.is_stopped:
                if must_load:
                    look = self._load()
                self._round(look)
                if self.once or (self.until is not None and self.clock.now() >= self.until):
                    break
                following = self._next()
                self._tell_health(following)
                changed = self._wait(following)
                self._breathe()
                must_load = any(self._is_setting(path) for path in changed)
                look = self._to_look_at(changed)
                if self.clock.now() - last_full > _LOOK_ANYHOW:
                    last_full, look = self.clock.now(), None
                self._do_jobs()
        finally:
            if self._loaded is not None:
                end_health(self._loaded.stage.workspace)
        return not self._failed

    # --- one round

    def _load(self) -> frozenset[str] | None:
        try:
            self._loaded = self.load()
        except WhenvocaError as error:
            if self._loaded is None:
                raise
            self._heed({f"settings: {error.where}: {error.message}"}, "settings: ")
            return None
        self._heed({f"check: {fault}" for fault in self._loaded.faults}, "check: ")
        self._heed(set(), "settings: ")
        self._loaded.stage.places.listen(self.waker.poke)
        paths = [path for found in self._loaded.stage.places.watched_paths().values() for path in found]
        folder = self._loaded.stage.workspace.folder
        self.waker.watch([*paths, folder, folder / "workflows", self._loaded.stage.workspace.state_folder])
        return None

    def _round(self, look: frozenset[str] | None) -> None:
        """Looks at these places (None: all), and runs what waits."""
        assert self._loaded is not None
        loaded = self._loaded
        stage = loaded.stage.on(loaded.stage.places.renewed(), self.ledger)
        options = RunOptions(
            brake_span=BRAKE_SPAN,
            look=look,
            kept=10**9,
            stop=lambda: self.waker.is_stopped,
            patience=None if isinstance(self.clock, PlayedClock) else self._patience,
        )
        try:
            outcome = run_workflows(stage, loaded.workflows, options)
        except WhenvocaError as error:
            self._heed({f"run: {error.where}: {error.message}" if error.where else f"run: {error.message}"}, "run: ")
            return
        self._heed(set(), "run: ")
        not_looked_at = {each for each in self._troubles if look is not None and not _is_of(each, look)}
        self._heed({f"place: {each}" for each in outcome.troubles} | not_looked_at, "place: ")
        for name, faults in outcome.told.items():
            self._heed({f"data of {name}: {each}" for each in faults}, f"data of {name}: ")
        circles = [
            each for each in outcome.faults if each not in {one for faults in outcome.told.values() for one in faults}
        ]
        for each in circles:
            self.told.trouble(each, self.clock.now())
        self._heed({f"held: {each.said}" for each in outcome.held}, "held: ")
        self._failed = self._failed or bool(outcome.counts.get("failed"))
        prune_when_due(self.ledger, stage.workspace, self.clock)
        self.told.outcome(outcome, self.clock.now())
        self.after_round(self.ledger)
        self._pace(outcome, look)

    def _heed(self, now: set[str], kind: str) -> None:
        """Tells what is newly wrong, and what is right again, with how long it was wrong."""
        at = self.clock.now()
        before = {each for each in self._troubles if each.startswith(kind)}
        for each in sorted(now - before):
            self.told.trouble(each.removeprefix(kind), at)
            self._troubles[each] = at
        for each in sorted(before - now):
            self.told.trouble(each.removeprefix(kind), at, since=self._troubles.pop(each))

    # --- what comes next

    def _next(self) -> datetime | None:
        """The next moment that something waits for."""
        assert self._loaded is not None
        found = [next_end(self.ledger)]
        paused = self.ledger.pauses()
        for workflow in self._loaded.workflows:
            if workflow.trigger.definition.strategy.is_timed and workflow.identity not in paused:
                with suppress(WhenvocaError):
                    found.append(open_program(workflow, self._loaded.stage).next_due())
        return min((each for each in found if each is not None), default=None)

    def _wait(self, following: datetime | None) -> set[Path]:
        """Lets time pass until then, or until something changes; a played clock is moved on instead."""
        if isinstance(self.clock, PlayedClock):
            ends = [each for each in (following, self.until) if each is not None]
            if not ends:
                self.until = self.clock.now()
                return set()
            self.clock.move_to(min(ends))
            return set()
        now, seconds = self.clock.now(), _LONGEST_NAP
        for moment in (following, self.until):
            if moment is not None:
                seconds = min(seconds, max(0.0, (moment - now).total_seconds()))
        if self._patience is not None and (due := self._patience.seconds()) is not None:
            seconds = min(seconds, due)
        for pace in self._paces.values():
            seconds = min(seconds, max(0.0, pace.due - self.clock.tick()))
        return self.waker.wait(seconds)

    def _breathe(self) -> None:
        """Rounds do not follow each other more closely than that: what comes in between is worked on together."""
        left = _BREATH - (self.clock.tick() - self._began)
        if left > 0 and not isinstance(self.clock, PlayedClock):
            self.clock.wait(left)
        self._began = self.clock.tick()

    def _to_look_at(self, changed: set[Path]) -> frozenset[str]:
        """The places at which something changed, and the servers whose turn it is."""
        assert self._loaded is not None
        found = {
            name
            for name, paths in self._loaded.stage.places.watched_paths().items()
            if any(path == each or each in path.parents for path in changed for each in paths)
        }
        found |= self.waker.poked()
        found |= {name for name, pace in self._paces.items() if pace.due <= self.clock.tick()}
        return frozenset(found)

    def _pace(self, outcome: Outcome, look: frozenset[str] | None) -> None:
        """When each server is looked at next: soon after a change, later when it is quiet or away."""
        assert self._loaded is not None
        for name, paths in self._loaded.stage.places.watched_paths().items():
            if paths or (look is not None and name not in look):
                continue
            pace = self._paces.setdefault(name, _Pace())
            is_away = any(each.lower().startswith(name) for each in outcome.troubles)
            if is_away:
                pace.seconds = min(pace.seconds * 2, _TROUBLED)
            else:
                pace.seconds = _POLL[0] if outcome.seen else min(pace.seconds * 1.5, _POLL[1])
            pace.due = self.clock.tick() + pace.seconds

    def _is_setting(self, path: Path) -> bool:
        """Whether a path is one of the workspace's own files."""
        assert self._loaded is not None
        folder = self._loaded.stage.workspace.folder
        return path == folder / "whenvoca.toml" or (path.parent == folder / "workflows" and path.suffix == ".voca")

    # --- others

    def _do_jobs(self) -> None:
        while (job := self.ledger.next_job()) is not None:
            code, out, err = self.do_job(job)
            self.ledger.end_job(job.number, code, out, err)
            self.told.note(f"handed over: whenvoca {' '.join(job.arguments)} (exit status {code})")

    def _tell_health(self, following: datetime | None) -> None:
        assert self._loaded is not None
        told = {
            "process": os.getpid(),
            "since": self._since,
            "next": following.astimezone(UTC).isoformat() if following else None,
            "workflows": len(self._loaded.workflows),
            "troubles": sorted(self._troubles),
        }
        at, before = self._health
        if told == before and self.clock.tick() - at < _HEALTH_SECONDS:
            return  # nothing but the time of the look is new
        self._health = (self.clock.tick(), told)
        write_health(self._loaded.stage.workspace, {**told, "looked": self.clock.now().isoformat()})
