"""The field `meeting-link` of events, and the effects that make a link and end it."""

from __future__ import annotations

from typing import Any

from whenvoca.calendars.event import Event
from whenvoca.engine.acting.effect_kind import EffectKind, Inverse
from whenvoca.engine.acting.keyed import Acting
from whenvoca.engine.acting.meeting_links import make_link, with_link
from whenvoca.engine.acting.stage import Stage
from whenvoca.engine.acting.step_call import StepCall
from whenvoca.engine.effects import MEETINGS, Effect, show_brief
from whenvoca.language.definitions import FieldDefinition

WORD = "meeting-link"


def wants_link(call: StepCall) -> bool:
    """Whether the step says that its event has one."""
    return bool(call.value(WORD, False))


def linked(call: StepCall, event: Event, known: str) -> Acting:
    """The event with the link that the step wants: the one that is known, else a new one."""
    if not wants_link(call):
        return event
    link = known or (yield from make_link(call.stage, call.place, event))
    return with_link(event, link)


def _undo_making(stage: Stage, effect: Effect, left: list[str]) -> Inverse:
    after: dict[str, Any] = effect.after or {}
    stored = stage.find_event(str(after.get("calendar")), str(after.get("uid")))
    if stored is not None and stored.event.meeting_link:
        left.append(f'meeting links: the link of "{stored.event.title}" stays with it')
        return
    links = stage.workspace.meeting_links
    if links is not None and links.service:
        yield Effect(verb="delete meeting-link", place=MEETINGS, target=effect.target, before=after)


def _undo_ending(stage: Stage, effect: Effect, left: list[str]) -> Inverse:
    before: dict[str, Any] = effect.before or {}
    receipt = yield Effect(verb="create meeting-link", place=MEETINGS, target=effect.target, after=before)
    if before.get("link") and receipt.address != before["link"]:
        left.append(f'meeting links: "{before.get("title")}" has another link now, {receipt.address}')


def _title(effect: Effect) -> str:
    return show_brief((effect.after or effect.before or {}).get("title") or effect.target)


LINK_EFFECTS = (
    EffectKind(
        verb="create meeting-link",
        line=lambda effect: f"meeting link for {_title(effect)}",
        target=_title,
        invert=_undo_making,
    ),
    EffectKind(
        verb="delete meeting-link",
        line=lambda effect: f"meeting link of {_title(effect)} ended",
        target=_title,
        invert=_undo_ending,
    ),
)
LINK_FIELD = FieldDefinition(
    WORD,
    "yes-no",
    "Whether it has a link to join from afar, made as meeting-link in [workspace] says. The link stands in the details "
    "too, stays on a change, and ends with the event.",
    default="no",
)
KEPT_FIELD = FieldDefinition(
    WORD, "choice", "What becomes of its link to join from afar.", choices=("kept", "ended"), default="ended"
)
