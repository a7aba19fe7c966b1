"""A conversation: what a text asks for is decided here, with what was said before; the caller carries it out."""

from __future__ import annotations

import json
from collections.abc import Callable, Collection, Generator, Iterator, Mapping, Sequence
from datetime import date, datetime
from typing import Any
from zoneinfo import ZoneInfo

from msgspec import Struct, field
from msgspec.structs import replace

from whenvoca.calendars.event import Attendee, Event
from whenvoca.calendars.series import moved_series
from whenvoca.calendars.state import event_key
from whenvoca.engine.acting.dated_changes import retry_on_conflict, to_change, to_creation, to_deletion
from whenvoca.engine.acting.meeting_links import end_link
from whenvoca.engine.acting.splitting import Splitting, deciders_of_ending
from whenvoca.engine.acting.stage import Stage
from whenvoca.engine.conversing.busy import busy_besides
from whenvoca.engine.conversing.labels import label_of_run
from whenvoca.engine.conversing.memory import (
    QUIET,
    Asked,
    agenda_of,
    hide_private,
    recall,
    request_from_state,
    request_to_state,
    surroundings,
)
from whenvoca.engine.effects import Effect, Receipt
from whenvoca.engine.ledger.codec import encode
from whenvoca.engine.lineage import Lineage
from whenvoca.engine.people import Person
from whenvoca.errors import RequestFault, RowFault
from whenvoca.speech.reply import reply_to
from whenvoca.speech.request import Request, Surroundings, Target, Wish
from whenvoca.speech.requests import IS_PAST
from whenvoca.speech.understanding import understand
from whenvoca.values.durations import Duration
from whenvoca.values.zones import told_apart

ASKED_BEFORE = ("several", "series")  # which requests need a yes unless something else is said
ASKABLE = ("several", "series", "deletions", "changes", "creations")
_AROUND_A_CALENDAR = ("in", "into", "to", "the", "calendar", "please", "use")
_MOST_LISTED = 12  # events of an answer that may be spoken of as the first, the second one


class Manner(Struct, frozen=True, kw_only=True):
    """How requests are answered: about which calendars, with new events in ``home``, and what needs a yes first.

    ``approver`` is who must agree where somebody asks to delete an event that another one organizes.
    """

    calendars: Sequence[str]
    home: str
    length: int = 60  # minutes of an event whose end is not said
    ask_before: Collection[str] = ASKED_BEFORE
    approver: str = ""


class Deed(Struct):
    """What is to be done about a text: a request to carry out, runs to undo, or nothing but the reply."""

    request: Request
    reply: str
    is_done: bool = False  # the request is to be carried out
    undoes: list[int] = field(default_factory=list)
    failed: bool = False
    answers: tuple[str, str, str] = ("", "", "")  # the question of another person that it answers: who, where, when

    def to_text(self) -> str:
        """As JSON, so that a run cut short goes on with the same."""
        return encode(
            {
                "request": request_to_state(self.request),
                "reply": self.reply,
                "is_done": self.is_done,
                "undoes": self.undoes,
                "failed": self.failed,
                "answers": list(self.answers),
            }
        )


class Conversation:
    """One person's conversation in one room, or with us alone. ``identity`` gives the lineage of its n-th thing."""

    def __init__(
        self,
        stage: Stage,
        manner: Manner,
        *,
        person: Person | None,
        sender: str,
        room: str,
        identity: Callable[[int], Lineage],
    ) -> None:
        self._stage, self._manner, self._identity = stage, manner, identity
        self._workspace = stage.workspace
        self._person = person
        self._mail, self._busy = person.mail if person is not None else sender, busy_besides(stage)
        self.who = person.name.lower() if person is not None else sender.lower()
        self.room = room
        self.zone = (person.zone if person is not None else None) or self._workspace.zone
        self.key = f"talk {self.who} {room}"

    def forget_what_was_asked(self, sent: Collection[Any]) -> None:
        """Drops the questions that were put to the approver for messages of these moments: others stand instead of
        them."""
        key = f"talk {self._manner.approver.lower()} "
        if not (text := self._stage.recall(key)):
            return
        state = json.loads(text)
        mine = [(self.who, self.room, each) for each in sent]
        state["asked"] = [
            each for each in state.get("asked", []) if (each[1], each[2], datetime.fromisoformat(each[3])) not in mine
        ]
        self._stage.keep(key, encode(state))

    def hear(self, text: str, now: datetime, *, is_anew: bool = False) -> Deed:
        """Decides what a text asks for. Nothing is done or remembered yet. ``is_anew``: it answers no question, since
        it stands instead of an earlier message.

        Raises PlaceTrouble where a calendar cannot be reached.
        """
        agenda = agenda_of(self._stage.calendar, self._manner.calendars, hides=bool(self.room))
        around = self.around = surroundings(
            self._workspace, now, self.zone, agenda, length=self._manner.length, speaker=self._mail, busy=self._busy
        )
        self.memory = recall(self._stage.recall(self.key), around)
        if is_anew:
            self.memory.pending = None
        pending = self._pending
        request = understand(text, replace(around, last=self.memory.last, pending=pending))
        if pending is not None and pending.missing == ["calendar"] and (home := self._calendar_named(text)):
            return self._do(replace(pending, intent="create", home=home, question="", missing=[]))
        return self._decide(request)

    @property
    def _on_behalf(self) -> Asked | None:
        """The question of another person that is put now."""
        memory = self.memory
        return memory.asked[0] if memory.pending is None and memory.asked and memory.asked[0].put else None

    @property
    def _pending(self) -> Request | None:
        """The question that waits for an answer: this person's own, else that of another one."""
        return self.memory.pending or (self._on_behalf.request if self._on_behalf is not None else None)

    def _calendar_named(self, text: str) -> str:
        """The calendar whose name is all that a text says; empty where it says something else."""
        said = " ".join(
            word for word in text.lower().replace(",", " ").strip(" .!").split() if word not in _AROUND_A_CALENDAR
        )
        return next((name for name in self._open_calendars() if name.lower() == said), "")

    def _open_calendars(self) -> list[str]:
        """Those that may be written."""
        return [name for name in self._manner.calendars if not self._stage.calendar(name).info().readonly]

    def remember(self, deed: Deed, run: int, now: datetime, *, is_asked: bool = False) -> str:
        """Remembers what was spoken of and done, for what is said next; ``is_asked``: somebody else has its question.
        Answers the question of another person that is open now, to be put with the reply."""
        memory = self.memory
        request = deed.request
        if request.intent == "query" and request.targets:
            memory.last = request.targets[:_MOST_LISTED]
        if deed.is_done and request.intent == "create":
            memory.last = [Target(self._home_name(request), self._creation(request.events[0], 0))]
        elif deed.is_done and request.intent == "change" and request.targets:
            memory.last = request.targets[:1]
        if deed.is_done and run:
            memory.runs = [*[each for each in memory.runs if each != run], run]
        memory.pending = request if request.question and not is_asked else None
        memory.asked = [each for each in memory.asked if each.key != deed.answers]
        question = ""
        if memory.pending is None and memory.asked:
            memory.asked[0].put = now.isoformat()
            question = f"\n\n{self._question_of(memory.asked[0], self.zone)}"
        self._stage.keep(self.key, memory.to_text(now))
        return question

    # --- deciding

    def _decide(self, request: Request) -> Deed:
        pending, behalf = self._pending, self._on_behalf
        answers = behalf.key if behalf is not None else ("", "", "")
        if behalf is not None and request.intent in ("yes", "no", "undo"):
            if self.around.now - datetime.fromisoformat(behalf.put) > QUIET:
                return Deed(Request(), "That was a while ago, so please answer once more:")
            if request.intent != "yes":
                return Deed(request, "All right, nothing is changed.", answers=answers)
        match request.intent:
            case "undo" if pending is not None:
                return Deed(request, "Nothing was done yet; the question is dropped.")
            case "undo":
                return self._undo(request)
            case "no":
                said = "All right, nothing is changed." if pending else reply_to(request, self.zone)
                return Deed(request, said)
            case "yes" if pending is not None and pending.offers:
                deed = self._take(pending.offers[0])
                deed.answers = answers
                return deed
            case "yes" if pending is not None and (pending.missing == ["yes"] or pending.question.endswith(IS_PAST)):
                intent: Any = pending.purpose if pending.intent == "ask" and pending.purpose else pending.intent
                deed = self._do(replace(pending, intent=intent, question="", missing=[]))
                deed.answers = answers
                return deed
            case "choose" if pending is not None and pending.offers:
                return self._take(pending.offers[request.choice[0]])
            case "choose" if pending is not None:
                chosen = [pending.targets[n] for n in request.choice if n < len(pending.targets)]
                if pending.purpose == "change" and len(chosen) == 1:
                    again = understand(pending.text, replace(self.around, agenda=chosen, last=[], pending=None))
                    return (
                        self._do_or_ask(again) if again.intent == "change" else Deed(again, reply_to(again, self.zone))
                    )
                if pending.purpose == "change":
                    request.question, request.missing = "One after the other, please: which one first?", ["which"]
                    return Deed(replace(pending, question=request.question), request.question)
                intent = pending.purpose or pending.intent
                return self._do_or_ask(replace(pending, intent=intent, targets=chosen, question="", missing=[]))
            case "create" | "change" | "delete":
                return self._do_or_ask(request)
        return Deed(request, reply_to(request, self.zone))

    def _take(self, request: Request) -> Deed:
        """A reading that was offered and chosen."""
        request.today = self.around.now.astimezone(self.zone).date()
        if request.intent in ("create", "change", "delete"):
            return self._do_or_ask(request)
        return Deed(request, reply_to(request, self.zone))

    def _do_or_ask(self, request: Request) -> Deed:
        if not request.question and self._needs_yes(request):
            request.question, request.missing = self._question(request, self.zone, self.who), ["yes"]
        return Deed(request, request.question) if request.question else self._do(request)

    def _question(self, request: Request, zone: ZoneInfo, who: str) -> str:
        """The question whether to do what somebody asks for, with times as a reader in that zone has them."""
        owner = self._organizer_besides(who, request)
        said = reply_to(replace(request, question="", missing=[]), zone) + (
            f"\n{owner} organizes that." if owner else ""
        )
        return f"{said}\nShall I? (yes or no)"

    def _question_of(self, asked: Asked, zone: ZoneInfo) -> str:
        return f"{asked.who} asks: {self._question(asked.request, zone, asked.who)}"

    def _needs_yes(self, request: Request) -> bool:
        """Whether such a request is asked about first."""
        before = self._manner.ask_before
        if request.intent == "create":
            return "creations" in before
        if request.intent == "change":
            return "changes" in before
        is_several = "several" in before and len(request.targets) > 1
        is_series = "series" in before and request.scope != "this" and any(each.event.rule for each in request.targets)
        is_series = is_series or ("series" in before and request.scope == "all")
        return "deletions" in before or is_several or is_series or bool(self._other_organizer(request))

    def _other_organizer(self, request: Request) -> str:
        """Who else organizes what is to be deleted; empty where it is nobody, or who asks."""
        return "" if self.who == self._manner.approver.lower() else self._organizer_besides(self.who, request)

    def _organizer_besides(self, who: str, request: Request) -> str:
        if request.intent != "delete" or not who:
            return ""
        for target in request.targets:
            organizer = target.event.organizer
            person = self._stage.workspace.people.find(organizer) if organizer else None
            name = person.name if person is not None else organizer
            if name and name.lower() != who and organizer != self._stage.workspace.people.organizer:
                return name
        return ""

    def needs_approver(self, deed: Deed) -> str:
        """Who must agree to a deed that waits for a yes; empty where who asks may say it."""
        is_asked = deed.request.missing == ["yes"] and bool(self._other_organizer(deed.request))
        return self._manner.approver if is_asked else ""

    def ask_another(self, deed: Deed, approver: Person, now: datetime) -> str:
        """Puts the question to another person, in their own conversation with us; answers what they are told, empty
        where another question of theirs comes first."""
        key = f"talk {approver.name.lower()} "
        zone = approver.zone or self._workspace.zone
        memory = recall(self._stage.recall(key), replace(self.around, zone=zone))
        asked = Asked(deed.request, self.who, self.room, now.isoformat())
        if all(each.key != asked.key for each in memory.asked):  # after a crash it is there already
            memory.asked.append(asked)
        is_first = memory.pending is None and memory.asked[0].key == asked.key
        if is_first:
            memory.asked[0].put = now.isoformat()
        self._stage.keep(key, memory.to_text(now))
        return self._question_of(asked, zone) if is_first else ""

    def told_to_asker(self, deed: Deed, said: str, zone: ZoneInfo) -> str:
        """What whoever asked hears of the answer, in their zone; in a room without what private events are about."""
        if deed.request.intent in ("no", "undo"):
            return f"{self.who} said no; nothing is changed."
        if not deed.is_done:
            return said
        request = hide_private(deed.request) if deed.answers[1] else deed.request
        return f"{self.who} agreed. {reply_to(request, zone, done=True)}"

    def _do(self, request: Request) -> Deed:
        if request.intent == "create" and not (request.home or self._manner.home):
            open_ones = self._open_calendars()
            if not open_ones:
                return Deed(request, "There is no calendar here that may be written; nothing is changed.", failed=True)
            request.question = f"In which calendar: {', '.join(open_ones[:-1])} or {open_ones[-1]}?"
            request.intent, request.missing = "ask", ["calendar"]
            return Deed(request, request.question)
        for target in request.targets:
            if self._stage.calendar(target.calendar).info().readonly:
                return Deed(request, f"{target.calendar} is only read; nothing is changed.", failed=True)
        try:
            effects = [decide() for decide in self.deciders(request)]
        except RowFault as fault:
            return Deed(request, f"That cannot be done: {fault.message}. Nothing is changed.", failed=True)
        if not any(effects):
            return Deed(request, "It is so already; nothing is changed.")
        return Deed(request, reply_to(request, self.zone, done=True), is_done=True)

    def _undo(self, request: Request) -> Deed:
        for number in reversed(self.memory.runs):
            try:
                records = self._stage.runs_to_undo([number])
            except RequestFault:
                continue
            return Deed(request, f"Taken back: {label_of_run(records[-1])}.", undoes=[each.number for each in records])
        return Deed(request, "There is nothing of yours to take back.")

    # --- doing

    def effects(self, request: Request) -> Generator[Effect, Receipt, None]:
        """The effects of a request; each is decided anew, three times at most, while its event moves on meanwhile.

        Raises RowFault where it cannot be done, PlaceTrouble where a calendar cannot be reached.
        """
        for decide in self.deciders(request):
            if isinstance(decide, Splitting):
                yield from decide.effects()
            else:
                yield from retry_on_conflict(decide)
        if request.intent == "delete":
            for target in request.targets:
                yield from end_link(self._stage, target.calendar, target.event)

    def deciders(self, request: Request) -> Iterator[Callable[[], Effect | None]]:
        """What gives the effect on each event of the request, as it is now; None where it is so already."""
        if request.intent == "create":
            for n, wish in enumerate(request.events):
                yield lambda n=n, wish=wish: self._to_creation(request, wish, n)  # type: ignore[misc]
            return
        for n, target in enumerate(request.targets):
            if request.scope != "following" or not self._has_earlier(target):
                yield lambda target=target: self._to_effect(request, target)  # type: ignore[misc]
            elif request.intent == "change":
                yield Splitting(
                    self._stage,
                    target.calendar,
                    target.event,
                    self._identity(n),
                    lambda rest, target=target: self._changed(rest, request.changes_of(target)),  # type: ignore[misc]
                )
            else:
                yield from deciders_of_ending(self._stage, target.calendar, target.event)

    def _has_earlier(self, target: Target) -> bool:
        """Whether the series has occurrences before this one."""
        master = self._stage.find_event(target.calendar, target.event.uid)
        return (
            master is not None and target.event.occurrence is not None and target.event.occurrence != master.event.start
        )

    def _to_effect(self, request: Request, target: Target) -> Effect | None:
        is_whole = request.scope != "this" and (target.event.rule or target.event.occurrence is not None)
        key = event_key(target.event.uid, None if is_whole else target.event.occurrence)
        stored = self._stage.find_event(target.calendar, key)
        if stored is None:
            return None
        if request.intent == "delete":
            return to_deletion(stored, target.calendar, key)
        if is_whole and target.event.occurrence is not None:
            changed = self._changed(target.event, request.changes_of(target))
            new = moved_series(stored.event, target.event, changed)
        else:
            new = self._changed(stored.event, request.changes_of(target))
        return to_change(stored, new, target.calendar, key)

    def _home_name(self, request: Request) -> str:
        return self._stage.calendar(request.home or self._manner.home).name

    def place_of(self, request: Request) -> str:
        """Where a request does something, first of all."""
        return request.targets[0].calendar if request.targets else self._home_name(request)

    def _to_creation(self, request: Request, wish: Wish, number: int) -> Effect:
        return to_creation(self._creation(wish, number), self._home_name(request), 1)

    def _creation(self, wish: Wish, number: int) -> Event:
        assert wish.start is not None
        assert wish.end is not None
        lineage = self._identity(number)
        people = self._workspace.people
        return Event(
            uid=lineage.to_uid(1),
            title=wish.title,
            start=told_apart(wish.start),
            end=told_apart(wish.end),
            location=wish.location,
            rule=wish.repeat,
            excluded=tuple(wish.left_out),
            attendees=tuple(Attendee(people.to_address(each)) for each in wish.attendees),
            alarms=() if wish.reminder is None else (Duration(seconds=-60 * wish.reminder).in_days(),),
            origin=lineage.to_mark(),
        )

    def _changed(self, event: Event, changes: Mapping[str, Any]) -> Event:
        given: dict[str, Any] = {
            name: changes[name] for name in ("title", "start", "end", "location", "busy") if name in changes
        }
        for name in ("start", "end"):
            if name in given:
                given[name] = told_apart(_on_clock_of(event.start, given[name]))
        people = self._workspace.people
        if "attendees" in changes:
            there = {each.address.lower() for each in event.attendees}
            fresh = [Attendee(people.to_address(each)) for each in changes["attendees"]]
            given["attendees"] = (*event.attendees, *[each for each in fresh if each.address.lower() not in there])
        if "without" in changes:
            gone = {people.to_address(each).lower() for each in changes["without"]}
            given["attendees"] = tuple(each for each in event.attendees if each.address.lower() not in gone)
        if "repeat" in changes:
            given["rule"] = changes["repeat"]
        if "reminder" in changes:
            given["alarms"] = (Duration(seconds=-60 * int(changes["reminder"])).in_days(),)
        return replace(event, sequence=event.sequence + 1, **given)


def _on_clock_of(start: datetime | date, value: datetime | date) -> datetime | date:
    """A moment on the clock that the event goes by, so that a series keeps its zone; a day as it is."""
    if isinstance(start, datetime) and isinstance(value, datetime) and hasattr(start.tzinfo, "key"):
        return value.astimezone(start.tzinfo)
    return value


def deed_from_text(text: str, around: Surroundings) -> Deed:
    """The deed of ``to_text``; events that are gone are left out."""
    state = json.loads(text)
    request = request_from_state(state["request"], around)
    who, room, at = state["answers"]
    return Deed(request, state["reply"], state["is_done"], list(state["undoes"]), state["failed"], (who, room, at))
