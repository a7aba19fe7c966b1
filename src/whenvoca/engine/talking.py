"""Requests in words, carried out: one conversation per person and room, remembered in the ledger, forgotten after a quiet time."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import UTC, date, datetime, timedelta
from typing import Any
from zoneinfo import ZoneInfo

from whenvoca.calendars.event import Attendee, Event
from whenvoca.calendars.state import event_key
from whenvoca.engine.batch import reason_of_error
from whenvoca.engine.clock import Clock
from whenvoca.engine.effects import Effect, EffectKey, Receipt
from whenvoca.engine.faces import CalendarFace, StoredEvent
from whenvoca.engine.identity import Lineage
from whenvoca.engine.ledger import Journal, Ledger
from whenvoca.engine.ledger_rows import encode
from whenvoca.engine.people import Person
from whenvoca.engine.stage import LiveStage
from whenvoca.engine.undoing import choose_runs, undo_runs
from whenvoca.engine.working import OpenPlaces
from whenvoca.engine.workspace import Workspace
from whenvoca.errors import RequestFault
from whenvoca.speech.reading import understand
from whenvoca.speech.reply import reply_to
from whenvoca.speech.request import Request, Surroundings, Target, Wish
from whenvoca.values.durations import Duration
from whenvoca.values.kinds import from_plain

QUIET = timedelta(minutes=30)  # after so long a conversation is forgotten
WORKFLOW = "say"


@dataclass(slots=True)
class Answered:
    """What came of a request in words."""

    request: Request
    reply: str
    effects: list[Effect] = field(default_factory=list)
    run: int = 0
    failed: bool = False


def agenda_of(calendars: Mapping[str, CalendarFace], names: Sequence[str], *, hides: bool = False) -> list[Target]:
    """All events of these calendars, series once; ``hides``: nothing but the times of private ones."""
    found = [(calendars[name].name, event) for name in names for event in calendars[name].all_events()]
    return [Target(name, _hidden(event) if hides and event.private else event) for name, event in found]


def _hidden(event: Event) -> Event:
    return replace(event, title="private", location="", attendees=())


class Talk:
    """One person's conversation about these calendars; new events go into ``home``."""

    def __init__(
        self, workspace: Workspace, places: OpenPlaces, ledger: Ledger, clock: Clock, calendars: Sequence[str], *, home: str,
        person: Person | None = None, room: str = "", length: int = 60,
    ) -> None:  # fmt: skip
        self._workspace, self._places, self._ledger, self._clock = workspace, places, ledger, clock
        self._names = [name.lower() for name in calendars]
        self._home = home.lower()
        self._who = person.name.lower() if person is not None else ""
        self._zone = (person.zone if person is not None else None) or workspace.zone
        self._key = f"talk {self._who} {room}"
        self._length = length
        self._hides = bool(room)  # others read a room
        self._text = ""  # what is being answered
        self._stage = LiveStage(places, ledger, clock, workspace.people)

    def answer(self, text: str) -> Answered:
        """Understands a text, does what it asks for, and says what was done."""
        self._text = text
        self._settle_cut_short()
        now = self._clock.now()
        agenda = agenda_of(self._places.calendars, self._names, hides=self._hides)
        pending, last, runs = self._remembered(agenda, now)
        around = surroundings(self._workspace, now, self._zone, agenda, length=self._length)
        request = understand(text, replace(around, last=last, pending=pending))
        answered = self._settle(request, pending, last, runs)
        if answered.request.intent in ("query",) and answered.request.targets:
            last = answered.request.targets[:1]
        if answered.effects:
            last = [Target(effect.place, effect.event) for effect in answered.effects if effect.event is not None][:1]
        is_open = bool(answered.request.question)
        self._remember(
            answered.request if is_open else None, last, [*runs, answered.run] if answered.run else runs, now
        )
        return answered

    def _settle(self, request: Request, pending: Request | None, last: Sequence[Target], runs: list[int]) -> Answered:
        match request.intent:
            case "undo":
                return self._undo(request, runs)
            case "no":
                return Answered(request, "All right, nothing is changed." if pending else reply_to(request, self._zone))
            case "yes" if pending is not None and pending.missing == ["yes"]:
                return self._do(replace_question(pending))
            case "choose" if pending is not None:
                chosen = [pending.targets[n] for n in request.choice if n < len(pending.targets)]
                return self._do_or_ask(self._of_chosen(pending, chosen))
            case "create" | "change" | "delete":
                return self._do_or_ask(request)
        return Answered(request, reply_to(request, self._zone))

    def _of_chosen(self, pending: Request, chosen: list[Target]) -> Request:
        intent = "delete" if "delete" in pending.question else "change"
        return replace(pending, intent=intent, targets=chosen, question="", missing=[])  # type: ignore[arg-type]

    def _do_or_ask(self, request: Request) -> Answered:
        """Deletions of several, or of a whole series, are asked about first."""
        is_much = request.intent == "delete" and (len(request.targets) > 1 or request.scope == "all")
        if is_much and not request.question:
            said = reply_to(request, self._zone)
            request.question, request.missing = f"{said}\nShall I? (yes or no)", ["yes"]
            return Answered(request, request.question)
        if request.question:
            return Answered(request, request.question)
        return self._do(request)

    # --- doing

    def _do(self, request: Request) -> Answered:
        now = self._clock.now()
        if request.intent == "create" and not self._home:
            said = f"In which calendar? There are: {', '.join(self._names) or 'none'}. Name one with --in."
            request.intent, request.question, request.missing = "ask", said, ["calendar"]
            return Answered(request, said)
        for target in request.targets:
            if self._places.calendars[target.calendar.lower()].info().readonly:
                return Answered(request, f"{target.calendar} is only read; nothing is changed.", failed=True)
        effects = self._effects(request, now)
        if not effects:
            return Answered(request, "It is so already; nothing is changed.")
        titles = [each.title for each in request.events] or [each.event.title for each in request.targets]
        label = titles[0] if len(titles) == 1 else f"{len(titles)} events: {', '.join(titles)}"[:120]
        run = self._ledger.begin_return(
            WORKFLOW, effects[0].place, self._text, now.isoformat(), kind="request", label=label
        )
        number = self._ledger.next_effect()
        done: list[Effect] = []
        for ordinal, effect in enumerate(effects, 1):
            self._ledger.commit(Journal(intents=[(number, run, EffectKey("say", "", ordinal), effect)]))
            (result,) = self._stage.apply([(number, effect)], now)
            if not isinstance(result, Receipt):
                self._ledger.commit(Journal(failures=[(number, reason_of_error(result))]))
                self._ledger.end_return(run, "failed", reason_of_error(result))
                return Answered(request, f"That failed: {reason_of_error(result)}", done, run, failed=True)
            self._ledger.commit(Journal(receipts=[(number, effect, result)]))
            done.append(effect)
            number += 1
        self._ledger.end_return(run, "done", "")
        return Answered(request, reply_to(request, self._zone, done=True), done, run)

    def _settle_cut_short(self) -> None:
        """Ends requests that a stop of the program cut short: what stands at its place as it was meant is noted as done."""
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
            self._ledger.end_return(
                record.number, "failed", "cut short by a stop of the program; what was done is noted"
            )

    def _effects(self, request: Request, now: datetime) -> list[Effect]:
        if request.intent == "create":
            return [self._creation(wish, n) for n, wish in enumerate(request.events)]
        found: list[Effect] = []
        for target in request.targets:
            key = event_key(target.event.uid, None if request.scope == "all" else target.event.occurrence)
            stored = self._stage.find_event(target.calendar, key)
            if stored is None:
                continue
            kept = stored.data.decode("utf-8", "replace")
            if request.intent == "delete":
                before = {
                    name: value for name, value in stored.event.content().items() if value or name in ("start", "end")
                }
                found.append(
                    Effect(
                        verb="delete event",
                        place=target.calendar,
                        target=key,
                        before=before,
                        version=stored.version,
                        stored=stored,
                        kept=kept,
                    )
                )
                continue
            new = self._changed(stored.event, request.changes)
            old, fresh = stored.event.content(), new.content()
            names = [name for name in old if old[name] != fresh[name]]
            if names:
                found.append(Effect(
                    verb="change event", place=target.calendar, target=key, before={name: old[name] for name in names},
                    after={name: fresh[name] for name in names}, version=stored.version, stored=stored, event=new, kept=kept,
                ))  # fmt: skip
        return found

    def _creation(self, wish: Wish, number: int) -> Effect:
        assert wish.start is not None
        assert wish.end is not None
        lineage = Lineage(
            self._workspace.root, WORKFLOW, f"{self._who} {self._ledger.next_effect()}", "create event", str(number)
        )
        people = self._workspace.people
        event = Event(
            uid=lineage.to_uid(1), title=wish.title, start=wish.start, end=wish.end, location=wish.location, rule=wish.repeat,
            attendees=tuple(Attendee(people.to_address(each)) for each in wish.attendees),
            alarms=(Duration(seconds=-60 * wish.alarm_minutes),) if wish.alarm_minutes is not None else (), origin=lineage.to_mark(),
        )  # fmt: skip
        shown = {name: value for name, value in event.content().items() if value or name in ("start", "end")}
        place = self._places.calendars[self._home].name
        return Effect(
            verb="create event",
            place=place,
            target=event.uid,
            after=shown,
            event=event,
            lineage=lineage.to_mark(),
            number=1,
        )

    def _changed(self, event: Event, changes: Mapping[str, Any]) -> Event:
        given: dict[str, Any] = {
            name: changes[name] for name in ("title", "start", "end", "location", "busy") if name in changes
        }
        people = self._workspace.people
        if "attendees" in changes:
            there = {each.address.lower() for each in event.attendees}
            fresh = [Attendee(people.to_address(each)) for each in changes["attendees"]]
            given["attendees"] = (*event.attendees, *[each for each in fresh if each.address.lower() not in there])
        if "without" in changes:
            gone = {people.to_address(each).lower() for each in changes["without"]}
            given["attendees"] = tuple(each for each in event.attendees if each.address.lower() not in gone)
        if "alarm" in changes:
            given["alarms"] = (Duration(seconds=-60 * int(changes["alarm"])),)
        return replace(event, sequence=event.sequence + 1, **given)

    def _undo(self, request: Request, runs: list[int]) -> Answered:
        left = list(runs)
        while left:
            number = left.pop()
            try:
                records = choose_runs(self._ledger, [number])
            except RequestFault:
                continue
            outcome = undo_runs(self._workspace, records, self._places, self._ledger, self._clock)
            said = "; ".join(outcome.left)
            reply = f"Taken back: {records[0].label}." + (f" Left: {said}" if said else "")
            return Answered(request, reply, outcome.effects, 0)
        return Answered(request, "There is nothing of yours to take back.")

    # --- remembering

    def _remembered(self, agenda: Sequence[Target], now: datetime) -> tuple[Request | None, list[Target], list[int]]:
        text = self._ledger.meta(self._key)
        if not text:
            return None, [], []
        try:
            state = json.loads(text)
            if now - datetime.fromisoformat(state["at"]) > QUIET:
                return None, [], []
            around = surroundings(self._workspace, now, self._zone, agenda)
            last = [found for each in state["last"] if (found := _found(each, agenda, around)) is not None]
            pending = None
            if state["pending"] is not None:
                pending = _from_state(state["pending"])
                pending.targets = [
                    found for each in state["pending"]["targets"] if (found := _found(each, agenda, around)) is not None
                ]
            return pending, last, list(state["runs"])
        except (ValueError, KeyError, TypeError):
            return None, [], []

    def _remember(self, pending: Request | None, last: Sequence[Target], runs: Sequence[int], now: datetime) -> None:
        state = {
            "at": now.isoformat(), "last": [_key(each) for each in last], "runs": list(runs)[-20:],
            "pending": None if pending is None else _to_state(pending),
        }  # fmt: skip
        self._ledger.set_meta(self._key, encode(state))


def surroundings(
    workspace: Workspace, now: datetime, zone: ZoneInfo, agenda: Sequence[Target], *, length: int = 60
) -> Surroundings:
    """What a text is read among in a workspace."""
    order = workspace.dates if workspace.dates in ("day first", "month first") else ""
    return Surroundings(now, zone, agenda, sorted(workspace.people_names), order, length, workspace.hours)


def _is_as_meant(effect: Effect, there: StoredEvent | None) -> bool:
    """Whether an effect stands at its place."""
    if effect.verb == "delete event":
        return there is None
    if there is None:
        return False
    content = there.event.content()
    return all(content.get(name) == value for name, value in (effect.after or {}).items())


def replace_question(request: Request) -> Request:
    """The request with its question answered."""
    return replace(request, question="", missing=[])


def _key(target: Target) -> list[str]:
    return [target.calendar, event_key(target.event.uid, target.event.occurrence)]


def _found(key: Sequence[str], agenda: Sequence[Target], around: Surroundings) -> Target | None:
    from whenvoca.calendars.recurrence import occurrence_at

    calendar, wanted = key
    uid, _, occurrence = wanted.partition(" @ ")
    for each in agenda:
        if each.calendar != calendar or each.event.uid != uid:
            continue
        if event_key(uid, each.event.occurrence) == wanted:
            return each
        if occurrence and each.event.occurrence is None:
            moment: datetime | date = datetime.strptime(occurrence[:8], "%Y%m%d").replace(tzinfo=UTC).date()
            if "T" in occurrence:
                moment = datetime.strptime(occurrence, "%Y%m%dT%H%M%SZ").replace(tzinfo=UTC)
            found = occurrence_at(each.event, moment, around.zone)
            if found is not None:
                return Target(calendar, found)
    return None


def _to_state(request: Request) -> dict[str, Any]:
    return {
        "intent": request.intent, "scope": request.scope, "changes": [[name, value] for name, value in request.changes.items()],
        "missing": request.missing, "question": request.question, "targets": [_key(each) for each in request.targets],
        "events": [[w.title, w.start, w.end, w.location, w.attendees, w.repeat, w.alarm_minutes] for w in request.events],
    }  # fmt: skip


def _from_state(state: Mapping[str, Any]) -> Request:
    return Request(
        state["intent"], events=[Wish(*[from_plain(value) for value in each]) for each in state["events"]], scope=state["scope"],
        changes={name: from_plain(value) for name, value in state["changes"]}, missing=list(state["missing"]), question=state["question"],
    )  # fmt: skip
