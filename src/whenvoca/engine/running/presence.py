"""Claims on what people show: the newest valid one shows; with none, what was before returns, unless a hand changed it.

A claim is made by `set presence … until`. It ends at its moment, with the event that it follows, or by `restore
presence`.
"""

from __future__ import annotations

import json
from collections.abc import Sequence
from contextlib import suppress
from datetime import UTC, datetime
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from whenvoca.calendars.event import Event, to_start
from whenvoca.calendars.state import from_state
from whenvoca.engine.acting.workspace_stage import WorkspaceStage
from whenvoca.engine.effects import Effect
from whenvoca.engine.ledger.protocol import Ledger
from whenvoca.engine.ledger.records import Claim, Occurrence
from whenvoca.engine.message_protocols import Presence
from whenvoca.engine.seeing.event_state import event_now
from whenvoca.errors import PlaceTrouble, RowFault


def note_presence(ledger: Ledger, number: int, occurrence: Occurrence, effect: Effect) -> None:
    """After a presence effect was applied: its claim, or the end of those that there were."""
    run, workflow = occurrence.run, occurrence.workflow
    place, person = effect.place, effect.target
    standing = ledger.claims(place, person)
    after = effect.after or {}
    until = after.get("until")
    if effect.verb == "restore presence" or not isinstance(until, datetime):
        ledger.end_claims(each.number for each in standing if each.number != number)
        ledger.forget_presence(place, person)
        return
    shown = Presence.of(after).to_dict()
    known = ledger.presence(place, person)
    before = Presence.of(effect.before or {}).to_dict()
    if known is not None and before in (known[1], shown):
        before = known[0]  # nobody changed it since we set it: what was there before that comes back
    follows = json.loads(effect.kept) if effect.kept else ["", "", ""]
    ledger.add_claim(Claim(number, place, person, run, workflow, shown, until.astimezone(UTC).isoformat(), *follows))
    ledger.keep_presence(place, person, before, shown)


class PresenceChange(Struct, frozen=True):
    """What becomes of one person's presence when claims of theirs have ended."""

    place: str
    person: str
    ended: tuple[Claim, ...]
    effect: Effect | None
    shown: Presence | None  # what we show from now on; None: nothing more


def presence_changes(stage: WorkspaceStage) -> list[PresenceChange]:
    """Whose presence has to change by now, and to what. Moves the ends of claims whose event has moved."""
    ledger, people, now = stage.ledger, stage.workspace.people, stage.clock.now()
    by_person: dict[tuple[str, str], list[Claim]] = {}
    for claim in ledger.claims():
        if not stage.has_chat(claim.place):
            continue
        by_person.setdefault((claim.place, claim.person), []).append(_following(stage, claim))
    found = []
    for (place, name), claims in by_person.items():
        ended = tuple(each for each in claims if not each.until or datetime.fromisoformat(each.until) <= now)
        person, known = people.find(name), ledger.presence(place, name)
        if not ended and person is not None and known is not None:
            with suppress(PlaceTrouble, RowFault):  # told where it is set; here it is only shown again
                stage.keep_showing(place, person, Presence.of(known[1]))
        if ended:
            found.append(_presence_change(stage, place, name, claims, ended))
    return found


def next_end(ledger: Ledger) -> datetime | None:
    """When the next claim ends."""
    ends = [datetime.fromisoformat(each.until) for each in ledger.claims() if each.until]
    return min(ends, default=None)


def _following(stage: WorkspaceStage, claim: Claim) -> Claim:
    """The claim with the end that its event has now; without any where the event is gone."""
    ledger = stage.ledger
    if not claim.event_key or not ledger.cursor(claim.event_place):
        return claim
    zone = stage.calendar(claim.event_place).zone
    state = event_now(ledger, claim.event_place, claim.event_key, zone)
    until = ""
    if state is not None:
        event: Event = from_state(state)
        moment = to_start(event.start if claim.event_field == "start" else event.end, zone)
        until = "" if event.cancelled else moment.astimezone(UTC).isoformat()
    if until == claim.until:
        return claim
    if until:
        ledger.move_claim(claim.number, until)
    return replace(claim, until=until)


def _presence_change(
    stage: WorkspaceStage, place: str, name: str, claims: Sequence[Claim], ended: tuple[Claim, ...]
) -> PresenceChange:
    person = stage.person_of(name)
    known = stage.ledger.presence(place, name)
    left = [each for each in claims if each not in ended]
    if person is None or known is None:
        return PresenceChange(place, name, ended, None, None)
    before, shown = Presence.of(known[0]), Presence.of(known[1])
    wanted = Presence.of(left[-1].shown) if left else before
    now = stage.presence_of(place, person)
    if now != shown or now == wanted:  # changed by hand, or as it should be already
        return PresenceChange(place, name, ended, None, wanted if left and now == wanted else (shown if left else None))
    after: dict[str, Any] = {**wanted.to_dict(), "chat": person.chat or person.name}
    effect = Effect(verb="return presence", place=place, target=name, before=now.to_dict(), after=after)
    return PresenceChange(place, name, ended, effect, wanted if left else None)


def note_presence_change(ledger: Ledger, change: PresenceChange) -> None:
    """Notes that a turn was done."""
    with ledger.transaction():
        ledger.end_claims(each.number for each in change.ended)
        known = ledger.presence(change.place, change.person)
        if change.shown is None or known is None:
            ledger.forget_presence(change.place, change.person)
        else:
            ledger.keep_presence(change.place, change.person, known[0], change.shown.to_dict())
