"""What a person wants to run: a workflow started by hand, the only subjects that run now, or the one that is picked."""

from __future__ import annotations

from collections.abc import Collection
from typing import Any

from whenvoca.calendars.state import split_key
from whenvoca.engine.acting.questions import Question
from whenvoca.engine.acting.workspace_stage import WorkspaceStage
from whenvoca.engine.ledger.records import Occurrence
from whenvoca.engine.running.open_program import OpenProgram
from whenvoca.engine.running.run_input import holds
from whenvoca.engine.running.run_options import Candidate, RunOptions
from whenvoca.errors import RequestFault
from whenvoca.language.evaluation import Scope
from whenvoca.language.faults import nearest


class Choosing:
    """The choices of one command, and the answers that were given before anything was done."""

    def __init__(self, stage: WorkspaceStage, options: RunOptions) -> None:
        self._stage, self._options = stage, options
        self._answers: dict[tuple[str, str], Any] = {}  # by workflow and question
        self._chosen: dict[str, frozenset[str]] = {}  # by workflow: the keys that alone run

    def start(self, each: OpenProgram) -> None:
        """Starts a workflow by hand, once: by the clock, or about what is chosen. Raises RequestFault."""
        is_clock = each.strategy.is_timed and not each.workflow.trigger.places
        if each.identity not in self._options.by_hand or not (is_clock or each.strategy.is_by_hand):
            return
        if each.workflow.trigger.is_about:
            if self._options.choice is None:
                self._chosen[each.identity] = frozenset([self._pick(each)])
                self._wake(each, self._chosen[each.identity])
            return
        ledger, now = self._stage.ledger, self._stage.clock.now()
        if is_clock and ledger.count_waiting(each.identity):
            return  # its moment has come by itself
        self._ask_before(each)
        number = ledger.newest_number() + 1
        at = now.astimezone(each.zone or self._stage.workspace.zone)
        place = next(iter(each.sources))
        happening = each.workflow.trigger.happenings[0]
        label = f"by hand {at:%a %d %b %H:%M}"
        fresh = Occurrence(each.identity, place, f"by hand {number}", -number, at.isoformat(), happening, label=label)
        ledger.add_occurrences([fresh], once=False)

    def answer(self, each: OpenProgram, question: Question) -> Any:
        """The answer to what a workflow asks. Raises RequestFault where nobody gives one."""
        key = (each.identity, question.name)
        return self._answers[key] if key in self._answers else self._options.answer(question)

    def keys(self, each: OpenProgram) -> frozenset[str] | None:
        """The keys of the only subjects that run now, each made to wait if it does not; None: all that wait. Raises
        RequestFault for one that is not there."""
        choice = self._options.choice
        if choice is None:
            return self._chosen.get(each.identity, self._options.only)
        if each.identity in self._chosen:
            return self._chosen[each.identity]
        keys: set[str] = set()
        for source in each.sources.values():
            keys |= {key for key in choice.keys if source.current(key) is not None}
            rows = source.keys_of_rows(choice.rows)
            if missing := [str(number) for number, key in rows.items() if key is None]:
                raise RequestFault(f"{source.name} has no row {', '.join(missing)} that holds data")
            keys |= {key for key in rows.values() if key}
        self._wake(each, keys)
        if choice.keys - keys:
            missing = sorted(choice.keys - keys)
            known = [
                key for source in each.sources.values() for key, _ in self._stage.ledger.standing_sequences(source.name)
            ]
            raise RequestFault(
                f"there is no {each.trigger.subject} {', '.join(missing)}", fix=nearest(missing[0], known)
            )
        self._chosen[each.identity] = frozenset(keys)
        return self._chosen[each.identity]

    def _ask_before(self, each: OpenProgram) -> None:
        """Asks what is asked before the first step, so that nothing is done where somebody has to answer first."""
        scope = Scope(None, "", self._stage.clock.now(), each.zone or self._stage.workspace.zone)
        for question, name in each.program.first_questions(scope):
            self._answers[each.identity, question.name] = scope.names[name] = self._options.answer(question)

    def _pick(self, each: OpenProgram) -> str:
        """The one subject that somebody chooses among those that the trigger offers."""
        found: list[Candidate] = []
        now = self._stage.clock.now()
        for source in each.sources.values():
            source.prepare()
            for key in source.keys_offered(now):
                state = source.current(key)
                if state is not None and holds(each.program, each.scope_of(source, key, state, now)):
                    number, said = source.describe(key, state)
                    found.append(Candidate(key, source.label(key, state), said, number))
        word = each.trigger.subject
        if not found:
            raise RequestFault(f"{each.identity}: there is no {word} that it could be about")
        return self._options.pick(word, found)

    def _wake(self, each: OpenProgram, keys: Collection[str]) -> None:
        """Makes these subjects wait, each with its newest occurrence, or a first one."""
        ledger, happening = self._stage.ledger, each.workflow.trigger.happenings[0]
        for source in each.sources.values():
            standing = dict(ledger.standing_sequences(source.name))
            for key in sorted(keys):
                state = source.current(key)
                if state is None or (key not in standing and split_key(key)[0] not in standing):
                    continue
                if number := ledger.newest(each.identity, source.name, key):
                    ledger.wake(number)
                    continue
                at = self._stage.clock.now().isoformat()
                sequence = standing.get(key) or standing[split_key(key)[0]]
                label = source.label(key, state)
                fresh = Occurrence(each.identity, source.name, key, sequence, at, happening, label=label)
                ledger.add_occurrences([fresh])
