"""Requests in words that somebody makes here, carried out at once, each as a run of its own."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec import Struct, field

from whenvoca.engine.acting.stage import LiveStage
from whenvoca.engine.clock import Clock
from whenvoca.engine.conversing.conversing import Conversation, Deed, Manner, label_of
from whenvoca.engine.effects import Effect, EffectKey, Receipt
from whenvoca.engine.ledger.protocol import Journal, Ledger
from whenvoca.engine.lineage import Lineage
from whenvoca.engine.people import Person
from whenvoca.engine.place_protocols import StoredEvent
from whenvoca.engine.running.batch import reason_of_error
from whenvoca.engine.running.open_program import OpenPlaces
from whenvoca.engine.undoing.undoing import undo_runs
from whenvoca.engine.workspace.settings import Workspace
from whenvoca.errors import RowFault, WhenvocaError
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
        workspace: Workspace,
        places: OpenPlaces,
        ledger: Ledger,
        clock: Clock,
        calendars: Sequence[str],
        *,
        home: str,
        person: Person | None = None,
        room: str = "",
        length: int = 60,
    ) -> None:
        self._workspace, self._places, self._ledger, self._clock = workspace, places, ledger, clock
        self._stage = LiveStage(places, ledger, clock, workspace)
        manner = Manner(calendars=[name.lower() for name in calendars], home=home.lower(), length=length)
        self._talk = Conversation(self._stage, manner, person=person, sender="", room=room, identity=self._lineage)
        self._number = 0  # of the first effect: what is made is known by it

    def _lineage(self, ordinal: int) -> Lineage:
        subject = f"{self._talk.who} {self._number}"
        return Lineage(self._workspace.root, WORKFLOW, subject, "create event", str(ordinal))

    def answer(self, text: str) -> Answered:
        """Understands a text, does what it asks for, and says what was done."""
        self._settle_cut_short()
        now = self._clock.now()
        self._number = self._ledger.next_effect()
        deed = self._talk.hear(text, now)
        answered = self._undo(deed) if deed.undoes else self._do(deed, text) if deed.is_done else None
        self._talk.remember(deed, answered.run if answered else 0, now)
        return answered or Answered(deed.request, deed.reply, failed=deed.failed)

    def _do(self, deed: Deed, text: str) -> Answered:
        now, request = self._clock.now(), deed.request
        place = self._talk.place_of(request)
        run = self._ledger.begin_manual_run(
            WORKFLOW, place, text, now.isoformat(), kind="request", label=label_of(request)
        )
        done: list[Effect] = []
        number, answer, fault = self._number, None, None
        acting = self._talk.effects(request)
        while True:
            try:
                effect = acting.throw(fault) if fault else acting.send(answer) if answer else next(acting)
            except StopIteration:
                break
            except WhenvocaError as error:
                self._ledger.end_manual_run(run, "failed", reason_of_error(error))
                deed.is_done = False
                return Answered(request, f"That failed: {reason_of_error(error)}", done, run, failed=True)
            self._ledger.commit(Journal(intents=[(number, run, EffectKey("say", "", number), effect)]))
            (result,) = self._stage.apply([(number, effect)], now)
            answer, fault = None, None
            if isinstance(result, Receipt):
                self._ledger.commit(Journal(receipts=[(number, effect, result)]))
                done.append(effect)
                answer = result
            else:
                self._ledger.commit(Journal(failures=[(number, reason_of_error(result))]))
                fault = (
                    result
                    if isinstance(result, RowFault)
                    else RowFault(result.message, where=result.where, fix=result.fix)
                )
            number += 1
        self._ledger.end_manual_run(run, "done", "")
        return Answered(request, deed.reply, done, run)

    def _undo(self, deed: Deed) -> Answered:
        records = self._ledger.runs(numbers=deed.undoes, limit=len(deed.undoes))
        outcome = undo_runs(self._workspace, records, self._places, self._ledger, self._clock)
        said = "; ".join(outcome.left)
        return Answered(deed.request, deed.reply + (f" Left: {said}" if said else ""), outcome.effects)

    def _settle_cut_short(self) -> None:
        """Ends requests that a stop of the program cut short: what stands at its place as it was meant is noted as
        done."""
        for record in self._ledger.runs(workflow=WORKFLOW, limit=20):
            if record.outcome != "begun":
                continue
            journal = Journal()
            for entry in self._ledger.journal_of(record.number):
                if entry.receipt is not None:
                    continue
                there = self._stage.find_event(entry.effect.place, entry.effect.target)
                if _is_as_meant(entry.effect, there):
                    receipt = Receipt(there.version, there.address) if there is not None else Receipt()
                    journal.receipts.append((entry.number, entry.effect, receipt))
                else:
                    journal.failures.append((entry.number, "cut short before it was done"))
            self._ledger.commit(journal)
            self._ledger.end_manual_run(
                record.number, "failed", "cut short by a stop of the program; what was done is noted"
            )


def _is_as_meant(effect: Effect, there: StoredEvent | None) -> bool:
    """Whether an effect stands at its place."""
    if effect.verb == "delete event":
        return there is None
    if there is None:
        return False
    content = there.event.content()
    return all(content.get(name) == value for name, value in (effect.after or {}).items())
