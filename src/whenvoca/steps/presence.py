"""The steps `set presence of` and `restore presence of`: what a person shows to others, for a while."""

from __future__ import annotations

import json
from typing import Any

from whenvoca.engine.acting.effect_kind import EffectKind, Inverse
from whenvoca.engine.acting.keyed import Acting
from whenvoca.engine.acting.stage import Stage
from whenvoca.engine.acting.step_call import StepCall
from whenvoca.engine.effects import Effect, show_brief
from whenvoca.engine.message_protocols import Presence
from whenvoca.engine.running.presence import note_presence
from whenvoca.errors import RowFault
from whenvoca.language.definitions import FieldDefinition, Sentence, StepDefinition
from whenvoca.language.operations import to_instant
from whenvoca.steps.people import persons_of
from whenvoca.values.texts import show_value

_SHOWS = ("free", "away", "dnd", "xa")


def _set(call: StepCall) -> Acting:
    strangers: list[str] = []
    for person in persons_of(call, strangers=strangers):
        after: dict[str, Any] = {
            "show": call.text("show") or "free",
            "status": call.told("status", person.zone),
            "symbol": call.text("symbol"),
        }
        if after["show"] not in _SHOWS:
            raise RowFault(f'show is never "{after["show"]}"', fix=f"it is one of: {', '.join(_SHOWS)}")
        before = call.stage.presence_of(call.place, person)
        follows, until = call.follows("until"), call.value("until")
        if call.gives("until") and until is None:
            raise RowFault(
                "until is empty", fix="give a moment, or leave the line away: then it stays until somebody changes it"
            )
        if until is not None:
            moment = to_instant(until, call.scope.zone)
            if moment <= call.now:
                continue  # over before it began
            after["until"] = moment.astimezone(person.zone or call.scope.zone)
        elif before == Presence.of(after) and not call.stage.claims_on(call.place, person):
            continue
        yield Effect(
            verb="set presence",
            place=call.place,
            target=person.name.lower(),
            before=before.to_dict(),
            after={**after, "chat": person.chat or person.name},
            kept=json.dumps(follows) if follows else "",
        )


def _restore(call: StepCall) -> Acting:
    for person in persons_of(call, strangers=[]):
        if not call.stage.claims_on(call.place, person):
            continue
        back = call.stage.presence_before(call.place, person)
        if back is not None:
            after: dict[str, Any] = {**back.to_dict(), "chat": person.chat or person.name}
            before = call.stage.presence_of(call.place, person).to_dict()
            yield Effect(
                verb="restore presence", place=call.place, target=person.name.lower(), before=before, after=after
            )


def _shown(presence: dict[str, Any]) -> str:
    words = [str(presence.get("show") or "free"), *([f'"{presence["status"]}"'] if presence.get("status") else [])]
    until = presence.get("until")
    return ", ".join(words) + (f", until {show_value(until)}" if until else "")


def _undo(stage: Stage, effect: Effect, left: list[str]) -> Inverse:
    """What a person showed comes back, unless somebody has changed it since."""
    person = stage.person_of(effect.target)
    now = None if person is None else stage.presence_of(effect.place, person)
    if now is None or now != Presence.of(effect.after or {}):
        left.append(f"{effect.place}: what {effect.target} shows was changed since; it is left so")
        return
    after = {**(effect.before or {}), "chat": (effect.after or {}).get("chat") or effect.target}
    yield Effect(verb="restore presence", place=effect.place, target=effect.target, before=now.to_dict(), after=after)


def _kind(verb: str, **more: Any) -> EffectKind:
    return EffectKind(
        verb=verb,
        line=lambda effect: f"{effect.target} shows {_shown(effect.after or {})} in {effect.place}",
        target=lambda effect: show_brief(effect.target),
        detail=lambda effect: f"{_shown(effect.before or {})} → {_shown(effect.after or {})}",
        invert=_undo,
        **more,
    )


RESTORE_EFFECT = _kind("restore presence", keeps_before=True, note=note_presence)
SET_EFFECT = _kind("set presence", keeps_before=True, note=note_presence, inverses=(_kind("return presence"),))
SET_PRESENCE = StepDefinition(
    sentence=Sentence("set presence of PEOPLE in CHAT"),
    meaning="Sets what people show to others. With until it is a claim for that time: the newest one shows, and when "
    "none is left, what was before comes back by itself, also after a restart, unless the person changed it "
    "by hand. An until that names the start or end of an event follows it. Without until it stays. Attendees "
    "who are not in [people] are passed over.",
    fields=(
        FieldDefinition(
            "show", "choice", "Free, away, not to be disturbed, or away for long.", choices=_SHOWS, default="free"
        ),
        FieldDefinition(
            "status", "text", "The words beside it.", example='"at the eyepiece, back {event.end as time}"'
        ),
        FieldDefinition("symbol", "text", "A sign that some chats show with it.", example='"🔭"'),
        FieldDefinition("until", "moment", "When what was before comes back.", example="event.end"),
    ),
    value_type="people",
    is_told=True,
    effects=(SET_EFFECT,),
    example='set presence of event.attendees in chat\n  show    dnd\n  status  "at the eyepiece"\n  until   event.end',
    act=_set,
)
RESTORE_PRESENCE = StepDefinition(
    sentence=Sentence("restore presence of PEOPLE in CHAT"),
    meaning="Ends every claim on what these people show: what was before comes back now. Where there is none, nothing "
    "happens.",
    value_type="people",
    effects=(RESTORE_EFFECT,),
    example='restore presence of "ines", "tomas" in chat',
    act=_restore,
)
