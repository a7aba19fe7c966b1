"""AnswerIntake to invitations: each is put on its event, once, and entered to start workflows.

What does not come from the attendee, is about nothing, or is older than what is known, changes nothing and is told.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import Any

from msgspec.structs import replace

from whenvoca.calendars.event import Attendee, Event
from whenvoca.calendars.itip import Reply, read_replies
from whenvoca.engine.acting.dated_changes import retry_on_conflict
from whenvoca.engine.acting.keyed import Performing, with_keys
from whenvoca.engine.acting.workspace_stage import WorkspaceStage
from whenvoca.engine.effects import Effect, EffectKey
from whenvoca.engine.ledger.records import JournalEntry, Occurrence, StateChange
from whenvoca.engine.ledger.renaming import answers_of
from whenvoca.engine.place_protocols import StoredEvent
from whenvoca.engine.running.group_run import GroupRun
from whenvoca.engine.things.email import CALENDAR, METHOD
from whenvoca.errors import PlaceTrouble, SourceFault

RUN = "answers"  # what their runs are called, in place of a workflow
_METHODS = ("REPLY", "COUNTER")
Perform = Callable[[Occurrence, Performing, Sequence[JournalEntry]], GroupRun]


class AnswerIntake:
    """Takes up what mailboxes brought of answers. ``told`` hears of those that do not count."""

    def __init__(self, stage: WorkspaceStage, perform: Perform, told: list[str]) -> None:
        self._stage, self._perform, self._told = stage, perform, told

    def take_up(self, mailbox: str) -> int:
        """Deals with the answers that came in since the last time, and with those that wait for a calendar which was
        away; answers how many count."""
        ledger, count = self._stage.ledger, 0
        done = answers_of(mailbox)
        position, *waiting = [int(each) for each in (ledger.cursor(done) or "0").split()]
        late = ledger.observed(waiting)
        for seen in [*(late[each] for each in waiting if each in late), *ledger.observations(mailbox, position)]:
            waiting = [each for each in waiting if each != seen.sequence]
            position = max(position, seen.sequence)
            if seen.new is None or seen.new.get(METHOD) not in _METHODS:
                continue
            try:
                count += self._deal_with(mailbox, seen.new)
            except PlaceTrouble as trouble:
                self._told.append(f"{mailbox}: an answer waits: {trouble}")
                waiting.append(seen.sequence)
            at = self._stage.clock.now().isoformat()
            ledger.observe(done, [], " ".join(map(str, [position, *waiting])), at)
        told = " ".join(map(str, [position, *waiting]))
        if told != ledger.cursor(done) and position:
            ledger.observe(done, [], told, self._stage.clock.now().isoformat())
        return count

    def _deal_with(self, mailbox: str, state: Mapping[str, Any]) -> int:
        sender = str(state.get("sender") or "")
        zone = self._stage.places.mailboxes[mailbox.lower()].zone
        try:
            replies = read_replies(str(state[CALENDAR]).encode(), zone)
        except SourceFault as fault:
            self._told.append(f"{mailbox}: the answer of {sender} cannot be read: {fault.message}")
            return 0
        count = 0
        for reply in replies:
            why = self._refusal(reply, sender)
            found = None if why else self._find(reply)
            if found is None or why:
                why = why or "the event that it is about is in none of the calendars"
                self._told.append(f"{mailbox}: the answer of {sender} does not count: {why}")
                continue
            count += self._count(mailbox, state, reply, *found)
        return count

    def _refusal(self, reply: Reply, sender: str) -> str:
        """Why an answer cannot count, whatever it is about."""
        if reply.attendee.lower() != sender.lower():
            return f"it answers for {reply.attendee or 'nobody'}"
        return ""

    def _find(self, reply: Reply) -> tuple[str, StoredEvent] | None:
        """The calendar and the event that it is about. Raises PlaceTrouble where it may be in one that is away."""
        away: PlaceTrouble | None = None
        for name in self._stage.places.calendars:
            try:
                stored = self._stage.find_event(name, reply.key)
            except PlaceTrouble as trouble:
                away = trouble
                continue
            if stored is not None:
                return self._stage.calendar(name).name, stored
        if away is not None:
            raise away
        return None

    def _count(self, mailbox: str, state: Mapping[str, Any], reply: Reply, calendar: str, stored: StoredEvent) -> int:
        ledger, title = self._stage.ledger, stored.event.title
        invited = [each for each in stored.event.attendees if each.address.lower() == reply.attendee.lower()]
        if not invited:
            self._told.append(f'{mailbox}: {reply.attendee} answers "{title}", and is not invited to it; left as it is')
            return 0
        known = f"answer {calendar} {reply.key} {reply.attendee.lower()}"
        newest, newer = ledger.meta(known), f"{reply.sequence:09} {reply.stamp}"
        if newest >= newer:
            return 0  # it has been counted, or a newer one has
        if reply.word != "proposed" and not self._put_on(calendar, reply, title):
            return 0
        answer = {
            "attendee": reply.attendee,
            "word": reply.word,
            "comment": reply.comment,
            "delegate": reply.delegate,
            "start": reply.start,
            "end": reply.end,
            "sent": state.get("sent"),
            "event": reply.key,
            "title": title,
        }
        told = {name: value for name, value in answer.items() if value}
        subject = f"{reply.key} {reply.attendee.lower()} {newer}"
        at = self._stage.clock.now().isoformat()
        with ledger.transaction():
            place = answers_of(calendar)
            ledger.observe(place, [StateChange(subject, told)], "answers", at)
            ledger.set_meta(known, newer)
        return 1

    def _put_on(self, calendar: str, reply: Reply, title: str) -> bool:
        """Sets the attendee's PARTSTAT in a run of its own; answers whether that was done."""
        stage, ledger = self._stage, self._stage.ledger

        def decide() -> Effect | None:
            stored = stage.find_event(calendar, reply.key)
            return None if stored is None else _with_answer(calendar, reply, stored)

        at = stage.clock.now().isoformat()
        label = f"{reply.attendee} {reply.word}: {title}"
        known = ledger.runs(workflow=RUN, subject=reply.key, limit=5)
        begun = [each for each in known if each.outcome == "begun" and each.label == label]  # before a crash
        run = begun[0].number if begun else ledger.begin_manual_run(RUN, calendar, reply.key, at, "answer", label)
        occurrence = Occurrence(RUN, calendar, reply.key, 0, at, number=-1, run=run, label=label)
        performing = with_keys(retry_on_conflict(decide), lambda effect: EffectKey("answer", "", 1, effect.target))
        ended = self._perform(occurrence, performing, ledger.journal_of(run) if begun else [])
        if ended.outcome != "done":
            if isinstance(ended.trouble, PlaceTrouble):
                raise ended.trouble
            self._told.append(f"{calendar}: the answer of {reply.attendee} could not be noted: {ended.reason}")
            return False
        return True


def _with_answer(calendar: str, reply: Reply, stored: StoredEvent) -> Effect | None:
    """What puts the answer on the event, None where it stands there."""
    event = stored.event
    attendees = tuple(_answered(event, reply))
    new = replace(event, attendees=attendees)
    if new.attendees == event.attendees:
        return None
    before, after = event.content(), new.content()
    names = ["answers", *(["attendees"] if len(attendees) != len(event.attendees) else [])]
    kept = stored.data.decode("utf-8", "replace")
    return Effect(
        verb="change event",
        place=calendar,
        target=reply.key,
        before={name: before[name] for name in names},
        after={name: after[name] for name in names},
        event=new,
        version=stored.version,
        stored=stored,
        kept=kept,
    )


def _answered(event: Event, reply: Reply) -> Iterator[Attendee]:
    for each in event.attendees:
        is_meant = each.address.lower() == reply.attendee.lower()
        said = " ".join(reply.comment.replace('"', "'").split())
        answer = replace(each, answer=reply.word.upper(), answer_wanted=False, comment=said)
        yield answer if is_meant else each
    is_known = reply.delegate.lower() in [each.address.lower() for each in event.attendees]
    if reply.word == "delegated" and reply.delegate and not is_known:
        yield Attendee(reply.delegate, answer="NEEDS-ACTION", answer_wanted=True)
