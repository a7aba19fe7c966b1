"""The step `publish free-time of CALENDARS to FILE`: busy times, and nothing else, for others to read."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from datetime import UTC, timedelta
from pathlib import PurePosixPath

from whenvoca.calendars.event import Busy
from whenvoca.calendars.free_busy import write_free_busy
from whenvoca.calendars.free_time import Span, busy_spans, joined
from whenvoca.engine.acting.keyed import Acting
from whenvoca.engine.acting.step_call import StepCall
from whenvoca.engine.lineage import Lineage
from whenvoca.errors import RowFault
from whenvoca.language.definitions import FieldDefinition, Sentence, StepDefinition
from whenvoca.language.faults import Spot
from whenvoca.steps.people import addresses_of
from whenvoca.steps.published_files import PUBLISH_EFFECT, publish
from whenvoca.steps.windows import window

_KINDS: tuple[Busy, ...] = ("yes", "tentative", "unavailable")
_ENDINGS = (".ifb", ".ics")
_STAMP = re.compile(rb"^DTSTAMP:.*\r\n", re.MULTILINE)


def _act(call: StepCall) -> Acting:
    low, high = window(call)
    if low is None or high is None:
        raise RowFault("from and until are empty", fix="say from when until when it is published")
    span, people = (low.astimezone(UTC), high.astimezone(UTC)), addresses_of(call, "people")
    name = _name(call)
    busy = _busy(call, span, people)
    data = write_free_busy(
        busy,
        span,
        uid=Lineage(call.lineage.root, call.lineage.workflow, name, call.lineage.step).to_uid(1),  # the same each time
        stamp=call.scope.now,
        organizer=people[0] if len(people) == 1 else call.people.organizer,
    )
    count = sum(map(len, busy.values()))
    holds = f"{count:,} busy time{'s' * (count != 1)}"
    yield from publish(call, name, data, holds, is_ours=_is_ours, varying=lambda text: _STAMP.sub(b"", text))


def _name(call: StepCall) -> str:
    name = call.quoted("FILE")
    if PurePosixPath(name).suffix.lower() not in _ENDINGS:
        raise RowFault(f'"{name}" does not end in {" or ".join(_ENDINGS)}', fix='such as "free-time.ifb"')
    return name


def _busy(call: StepCall, span: Span, people: list[str]) -> Mapping[Busy, list[Span]]:
    found: dict[Busy, list[Span]] = {kind: [] for kind in _KINDS}
    day = timedelta(days=1)
    for name in call.calendars:
        calendar = call.stage.calendar(name)
        events = calendar.find_between(span[0] - day, span[1] + day)
        for kind in _KINDS:
            found[kind] += busy_spans((each for each in events if each.busy == kind), calendar.zone, people)
    cut = {kind: [(max(a, span[0]), min(b, span[1])) for a, b in spans] for kind, spans in found.items()}
    return {kind: joined(each for each in spans if each[0] < each[1]) for kind, spans in cut.items()}


def _is_ours(data: bytes) -> bool:
    """Whether a file holds nothing but what this step writes."""
    return b"//Whenvoca//" in data and b"BEGIN:VFREEBUSY" in data and not re.search(b"BEGIN:V(EVENT|TODO)", data)


def _check(given: Mapping[str, Spot]) -> Iterator[tuple[str, str, str]]:
    for word in ("from", "until"):
        if word not in given:
            yield "", f"{word} is missing", "say from when until when it is published"


PUBLISH_FREE_TIME = StepDefinition(
    sentence=Sentence("publish free-time of CALENDARS to FILE"),
    meaning="Writes when these calendars are busy between two moments into a file of the workspace (VFREEBUSY, as "
    "other calendar programs read it): no titles, no places, no names. With people, only events count that one of them "
    "attends and has not declined, and events that name nobody. The file is written anew when something in it "
    "changes; one that somebody else made is never written over.",
    fields=(
        FieldDefinition("from", "moment", "From when.", example="today"),
        FieldDefinition("until", "moment", "Until when.", example="today + 60 days"),
        FieldDefinition("people", "people", "Whose time it is.", example='"ines"'),
    ),
    check_fields=_check,
    effects=(PUBLISH_EFFECT,),
    example='publish free-time of domes, outreach to "published/free-time.ifb"\n  from   today\n'
    "  until  today + 60 days",
    act=_act,
)
