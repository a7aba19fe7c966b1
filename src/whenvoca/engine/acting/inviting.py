"""What follows from an event that invites: a REQUEST, its update or a CANCEL to those whom it concerns (RFC 5546).

Whoever writes the event (a step, a mirror, an undo) need not think of it.
"""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator, Mapping, Sequence
from datetime import datetime
from typing import Any

from whenvoca.calendars.event import Event
from whenvoca.calendars.itip import Method, to_cancel, write_itip
from whenvoca.calendars.reader import read_events
from whenvoca.calendars.state import event_key, split_key
from whenvoca.engine.acting.keyed import Acting, Performing
from whenvoca.engine.acting.run_context import RunContext
from whenvoca.engine.acting.stage import Stage
from whenvoca.engine.effects import Effect, EffectKey, Receipt
from whenvoca.engine.ledger.records import JournalEntry
from whenvoca.engine.lineage import Lineage
from whenvoca.errors import RowFault
from whenvoca.language.evaluation import WaitingFault
from whenvoca.values.texts import show_value

VERB = "send invitation"
_TELLING = {"title", "start", "end", "location", "repeat"}  # what attendees have to know when it changes
_HEADS = {"REQUEST": "Invitation", "UPDATE": "Changed", "CANCEL": "Cancelled"}
_NOT_SENT = ("server", "nobody")  # who may invite instead of us


def inviting(performing: Performing, context: RunContext, journal: Mapping[EffectKey, JournalEntry]) -> Performing:
    """The same effects, each on an event followed by the invitations that it calls for. ``journal`` is what the run has
    done before a crash: what it called for then is sent now."""
    seen: set[EffectKey] = set()
    answer: Receipt | None = None
    fault: RowFault | None = None
    while True:
        try:
            key, effect = performing.throw(fault) if fault else performing.send(answer) if answer else next(performing)
        except StopIteration as end:
            for known, entry in journal.items():
                if entry.receipt is not None and known not in seen:
                    yield from _keyed(_invitations(context, known, entry.effect), known)
            return end.value
        answer = fault = None
        seen.add(key)
        before = journal.get(key)
        try:
            answer = yield key, effect
            if before is not None and before.receipt is not None:
                yield from _keyed(_invitations(context, key, before.effect), key)
                if effect.after != before.effect.after and effect.action == "change":
                    yield from _keyed(_invitations(context, context.next_key(key), effect), key)
            else:
                yield from _keyed(_invitations(context, key, effect), key)
        except WaitingFault:
            raise
        except RowFault as refused:
            fault = refused


def _keyed(acting: Acting, key: EffectKey) -> Performing:
    """Invitations with their keys. Those to the others go out where one is refused; then that is the fault."""
    answer: Receipt | None = None
    refused: list[RowFault] = []
    while True:
        try:
            effect = acting.send(answer) if answer else next(acting)
        except StopIteration:
            break
        try:
            answer = yield EffectKey(f"{key.step} invites", key.repetition, key.ordinal, effect.target), effect
        except WaitingFault:
            raise
        except RowFault as fault:
            refused.append(fault)
            answer = Receipt()
    if refused:
        raise RowFault("; ".join(each.message for each in refused), fix=refused[0].fix)


def _invitations(context: RunContext, key: EffectKey, effect: Effect) -> Acting:
    """Those that one effect on an event calls for."""
    if effect.noun != "event" or effect.action not in ("create", "change", "delete", "put back"):
        return
    stage = context.stage
    if stage.calendar(effect.place).invite in _NOT_SENT:
        return
    for number, (method, events, addresses, is_update) in enumerate(_due(stage, effect), 1):
        about = context.subject
        subject = f"{about.workflow} {about.place} {about.key}#{about.sequence}"
        part = f"{key.repetition} {key.ordinal} {key.target} {number}"
        name = Lineage(stage.workspace.root, "invitations", subject, key.step, part).to_uid(1)
        yield from _emails(stage, name, method, events, addresses, is_update=is_update)


_Due = tuple[Method, Sequence[Event], Sequence[str], bool]


def _due(stage: Stage, effect: Effect) -> Iterator[_Due]:
    """The method, the components, to whom, and whether they know the event already."""
    ours = stage.workspace.people.organizer.lower()
    if effect.action == "delete":
        stood = _stood(stage, effect)
        if stood and _is_ours(stood[0], ours):
            yield "CANCEL", [to_cancel(each, _invited(stood)) for each in stood], _invited(stood), True
        return
    stored = stage.find_event(effect.place, effect.target)
    if stored is None or not ours:
        return
    stood = _stood(stage, effect) if effect.action == "change" else []
    if not any(_is_ours(each, ours) for each in (stored.event, *stood)):
        return
    is_whole = not split_key(effect.target)[1]
    events = [stored.event, *stored.others] if is_whole else [stored.event]
    invited = _invited(events)
    if effect.action != "change":
        yield "REQUEST", events, invited, False
        return
    before = {*(effect.before or {}).get("attendees", ()), *(effect.before or {}).get("optional", ())}
    named = {*(effect.after or {}).get("attendees", ()), *(effect.after or {}).get("optional", ())}
    gone = sorted(before - {each.lower() for each in invited})
    fresh = [each for each in invited if each.lower() in named - before]
    if gone and stood:
        yield "CANCEL", [to_cancel(each, gone) for each in stood], gone, True
    if _TELLING & set(effect.after or {}):
        known = [each for each in invited if each not in fresh]
        if known:
            yield "REQUEST", events, known, True
    if fresh:
        yield "REQUEST", events, fresh, False


def _is_ours(event: Event, ours: str) -> bool:
    return bool(ours) and event.organizer.lower() == ours and bool(event.attendees)


def _invited(events: Sequence[Event]) -> list[str]:
    """Everybody besides the organizer, each once."""
    organizer = events[0].organizer.lower()
    found = {each.address.lower(): each.address for event in events for each in event.attendees}
    return [address for lower, address in found.items() if lower != organizer]


def _stood(stage: Stage, effect: Effect) -> list[Event]:
    """The event as it stood before: whole, or the one occurrence that the effect was about."""
    zone = stage.calendar(effect.place).zone
    if effect.stored is not None:
        whole = [effect.stored.event, *effect.stored.others]
    else:
        whole = read_events(effect.kept.encode(), zone) if effect.kept else []
    uid, occurrence = split_key(effect.target)
    mine = [each for each in whole if each.uid == uid]
    if occurrence:
        exact = [each for each in mine if event_key(each.uid, each.occurrence) == effect.target]
        return exact[:1] or [each for each in mine if each.occurrence is None][:0]
    return mine


def _emails(
    stage: Stage, name: str, method: Method, events: Sequence[Event], addresses: Iterable[str], *, is_update: bool
) -> Acting:
    to = list(addresses)
    if not to:
        return
    outbox = stage.invitation_outbox()
    now = stage.now()
    event = events[0]
    after: dict[str, Any] = {
        "to": to,
        "subject": _subject(method, event, is_update=is_update),
        "text": _text(stage, method, event, is_update=is_update),
        "method": method,
        "sender": event.organizer,
    }
    kept = json.dumps([write_itip(method, events, now).decode()], ensure_ascii=False)
    if len(to) == 1:
        yield Effect(verb=VERB, place=outbox, target=name, after=after, kept=kept)
        return
    for address in to:
        yield Effect(verb=VERB, place=outbox, target=f"{name} {address}", after={**after, "for": address}, kept=kept)


def _subject(method: Method, event: Event, *, is_update: bool) -> str:
    head = _HEADS["CANCEL" if method == "CANCEL" else "UPDATE" if is_update else "REQUEST"]
    return f"{head}: {event.title}, {show_value(event.start)}"


def _text(stage: Stage, method: Method, event: Event, *, is_update: bool) -> str:
    """The same for those whose mail program shows no invitations."""
    first = {"CANCEL": "This is cancelled:", "UPDATE": "This has changed:", "REQUEST": "You are invited:"}[
        "CANCEL" if method == "CANCEL" else "UPDATE" if is_update else "REQUEST"
    ]
    lines = [first, "", event.title, _when(event)]
    if event.location:
        lines.append(event.location)
    if event.meeting_link:
        lines.append(event.meeting_link)
    if event.details:
        lines += ["", event.details]
    who = ", ".join(each.address for each in event.attendees)
    return "\n".join([*lines, "", f"Invited: {who}", f"By: {event.organizer}"])


def _when(event: Event) -> str:
    zone = getattr(event.start.tzinfo, "key", "") if isinstance(event.start, datetime) else ""
    if isinstance(event.start, datetime):
        said = f"{show_value(event.start)} to {show_value(event.end)}"
    else:
        said = (
            show_value(event.start)
            if event.last_day == event.start
            else (f"{show_value(event.start)} to {show_value(event.last_day)}")
        )
    repeated = ", repeated" if event.is_series else ""
    return f"{said}{f' ({zone})' if zone else ''}{repeated}"
