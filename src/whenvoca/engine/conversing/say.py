"""Requests in words that somebody makes here, carried out at once, each as a run of its own."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import count

from msgspec import Struct, field

from whenvoca.engine.acting.keyed import with_keys
from whenvoca.engine.acting.workspace_stage import WorkspaceStage
from whenvoca.engine.conversing.conversing import Conversation, Deed, Manner
from whenvoca.engine.conversing.labels import label_of
from whenvoca.engine.effects import Effect, EffectKey, Receipt
from whenvoca.engine.ledger.records import Journal, Occurrence
from whenvoca.engine.lineage import Lineage
from whenvoca.engine.people import Person
from whenvoca.engine.place_protocols import StoredEvent
from whenvoca.engine.running.run_group import RunGroup
from whenvoca.engine.undoing.undoing import undo_runs
from whenvoca.speech.request import Request

WORKFLOW = "say"


class Answered(Struct):
    """What came of a request in words."""

    request: Request
    reply: str
    effects: list[Effect] = field(default_factory=list)
    run: int = 0
    failed: bool = False


class Talk:
    """One person's conversation about these calendars; new events go into ``home``."""

    def __init__(
        self,
        stage: WorkspaceStage,
        calendars: Sequence[str],
        *,
        home: str,
        person: Person | None = None,
        room: str = "",
        length: int = 60,
    ) -> None:
        self._stage = stage
        manner = Manner(calendars=[name.lower() for name in calendars], home=home.lower(), length=length)
        self._talk = Conversation(stage, manner, person=person, sender="", room=room, identity=self._lineage)
        self._number = 0  # of the first effect: what is made is known by it

    def _lineage(self, ordinal: int) -> Lineage:
        subject = f"{self._talk.who} {self._number}"
        return Lineage(self._stage.workspace.root, WORKFLOW, subject, "create event", str(ordinal))

    def answer(self, text: str) -> Answered:
        """Understands a text, does what it asks for, and says what was done."""
        self._settle_cut_short()
        now = self._stage.clock.now()
        self._number = self._stage.ledger.next_effect()
        deed = self._talk.hear(text, now)
        answered = self._undo(deed) if deed.undoes else self._do(deed, text) if deed.is_done else None
        self._talk.remember(deed, answered.run if answered else 0, now)
        return answered or Answered(deed.request, deed.reply, failed=deed.failed)

    def _do(self, deed: Deed, text: str) -> Answered:
        at, request = self._stage.clock.now().isoformat(), deed.request
        place, label = self._talk.place_of(request), label_of(request)
        number = self._stage.ledger.begin_manual_run(WORKFLOW, place, text, at, kind="request", label=label)
        occurrence = Occurrence(WORKFLOW, place, text, 0, at, number=-1, run=number, label=label)
        numbers = count(self._number)
        acting = with_keys(self._talk.effects(request), lambda _: EffectKey("say", "", next(numbers)))
        run = RunGroup(self._stage, lambda result: None).perform(occurrence, acting)
        if run.outcome == "done":
            return Answered(request, deed.reply, run.done, number)
        deed.is_done = False
        return Answered(request, f"That failed: {run.reason}", run.done, number, failed=True)

    def _undo(self, deed: Deed) -> Answered:
        outcome = undo_runs(self._stage, self._stage.runs(deed.undoes))
        said = "; ".join(outcome.left)
        return Answered(deed.request, deed.reply + (f" Left: {said}" if said else ""), outcome.effects)

    def _settle_cut_short(self) -> None:
        """Ends requests that a stop of the program cut short: what is at its place as it was meant counts as done."""
        ledger = self._stage.ledger
        for record in ledger.runs(workflow=WORKFLOW, limit=20):
            if record.outcome != "begun":
                continue
            journal = Journal()
            for entry in ledger.journal_of(record.number):
                if entry.receipt is not None:
                    continue
                there = self._stage.find_event(entry.effect.place, entry.effect.target)
                if _is_as_meant(entry.effect, there):
                    receipt = Receipt(there.version, there.address) if there is not None else Receipt()
                    journal.receipts.append((entry.number, entry.effect, receipt))
                else:
                    journal.failures.append((entry.number, "cut short before it was done"))
            ledger.commit(journal)
            reason = "cut short by a stop of the program; what was done is noted"
            ledger.end_manual_run(record.number, "failed", reason)


def _is_as_meant(effect: Effect, there: StoredEvent | None) -> bool:
    """Whether an effect stands at its place."""
    if effect.action == "delete":
        return there is None
    if there is None:
        return False
    content = there.event.content()
    return all(content.get(name) == value for name, value in (effect.after or {}).items())
