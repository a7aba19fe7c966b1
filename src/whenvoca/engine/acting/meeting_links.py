"""Links to join an event from afar: made before their event is written, and ended when it is gone."""

from __future__ import annotations

import uuid
from typing import Any

from msgspec.structs import replace

from whenvoca.calendars.event import Event
from whenvoca.engine.acting.keyed import Acting
from whenvoca.engine.acting.stage import Stage
from whenvoca.engine.effects import MEETINGS, Effect
from whenvoca.errors import RowFault

_JOIN = "To join: "  # begins the line of the details that holds the link


def without_link(details: str, event: Event) -> str:
    """The details without the line that tells the event's link."""
    return details.replace(f"{_JOIN}{event.meeting_link}", "").rstrip() if event.meeting_link else details


def with_link(event: Event, link: str) -> Event:
    """The event with that link, which its details tell too; empty: with none."""
    details = without_link(event.details, event)
    return replace(event, meeting_link=link, details=f"{details}\n\n{_JOIN}{link}".strip() if link else details)


def make_link(stage: Stage, place: str, event: Event) -> Acting:
    """Has a link made for an event; answers it. Raises RowFault where nobody makes links."""
    if stage.workspace.meeting_links is None:
        said = "meeting-link is yes, and nobody makes any"
        raise RowFault(said, fix='give meeting-link = { pattern = "https://…/{secret}" } in [workspace]')
    after: dict[str, Any] = {"calendar": stage.calendar(place).name, "uid": event.uid}
    if not event.private:
        after["title"] = event.title
    receipt = yield Effect(verb="create meeting-link", place=MEETINGS, target=_word(stage, event.uid), after=after)
    return receipt.address


def write_with_link(stage: Stage, event: Event, effect: Effect) -> Acting:
    """Writes an event that a link was just made for; where that fails for good, the link ends. Raises RowFault."""
    try:
        receipt = yield effect
    except RowFault:
        yield from end_link(stage, effect.place, event)
        raise
    return receipt


def end_link(stage: Stage, place: str, event: Event) -> Acting:
    """Ends the link of an event of ours that is gone, or has it no longer: with the service that made it, if there is
    one."""
    links = stage.workspace.meeting_links
    if not event.meeting_link or not event.origin or event.occurrence is not None or links is None or not links.service:
        return
    stored = stage.find_event(place, event.uid)
    if stored is not None and stored.event.meeting_link == event.meeting_link:
        return
    before = {"uid": event.uid, "title": event.title, "link": event.meeting_link}
    yield Effect(verb="delete meeting-link", place=MEETINGS, target=_word(stage, event.uid), before=before)


def _word(stage: Stage, uid: str) -> str:
    """By which the service knows the link of an event: always the same, so that none is made twice."""
    return str(uuid.uuid5(uuid.NAMESPACE_OID, f"{stage.workspace.root}\0meeting\0{uid}"))
