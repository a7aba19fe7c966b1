"""The step `take back "WORKFLOW" in CALENDARS`: what it made between two moments goes, unless somebody changed it."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime

from whenvoca.calendars.state import from_state, to_state
from whenvoca.engine.acting.dated_changes import retry_on_conflict, to_deletion
from whenvoca.engine.acting.keyed import Acting
from whenvoca.engine.acting.meeting_links import end_link
from whenvoca.engine.acting.stage import ExistingThing
from whenvoca.engine.acting.step_call import StepCall
from whenvoca.engine.effects import Effect
from whenvoca.engine.lineage import Lineage
from whenvoca.engine.place_protocols import Found
from whenvoca.language.definitions import FieldDefinition, Sentence, StepDefinition
from whenvoca.steps.dated_effects import EVENT_EFFECTS
from whenvoca.steps.looking_up import WHERE
from whenvoca.steps.meeting_links import LINK_EFFECTS
from whenvoca.steps.windows import check_window, window


def _act(call: StepCall) -> Acting:
    marks = {name: _marks_in(call, name) for name in call.calendars}
    for each in call.where.recalled(lambda: _search(call, marks)):
        lineage = Lineage.from_mark(marks.get(each.place, {}).get(each.key, ""))
        if lineage is None:
            continue

        def decide(lineage: Lineage = lineage, each: Found = each) -> Effect | None:
            made = call.stage.find_made(each.place, lineage)
            if not isinstance(made, ExistingThing):
                return None
            more = {"lineage": lineage.to_mark(), "number": made.number}
            if made.is_untouched:
                return to_deletion(made.stored, each.place, each.key, **more)
            said = f'"{made.stored.event.title}", which somebody has changed'
            return Effect(
                verb="take event as changed",
                place=each.place,
                target=each.key,
                after={},
                stored=made.stored,
                notes=(said,),
            )

        yield from retry_on_conflict(decide)
        yield from end_link(call.stage, each.place, from_state(each.state))


def _marks_in(call: StepCall, name: str) -> dict[str, str]:
    """The marks of what the workflow made in a calendar, by their UIDs."""
    made = call.stage.calendar(name).find_marks(Lineage.prefix(call.stage.workspace.root, call.quoted("WORKFLOW")))
    return {uid: mark for mark, uid in made.items()}


def _search(call: StepCall, marks: Mapping[str, Mapping[str, str]]) -> list[Found]:
    """The whole plan, so that a run cut short goes on with the same events."""
    low, high = window(call)
    found: list[tuple[datetime, Found]] = []
    for name, by_uid in marks.items():
        calendar = call.stage.calendar(name)
        for uid in by_uid:
            stored = calendar.find_event(uid)
            if stored is None or not call.where.fits(call.stage.to_thing(name, stored.event)):
                continue
            begin = stored.event.span(calendar.zone)[0]
            if low is None or high is None or low <= begin < high:
                found.append((begin, Found(name, uid, to_state(stored.event))))
    return [each for _, each in sorted(found, key=lambda pair: pair[0])]


TAKE_BACK = StepDefinition(
    sentence=Sentence("take back WORKFLOW in CALENDARS"),
    meaning="Deletes the events that a workflow made there: all, or those that fit and begin between two moments. "
    "What somebody has changed since is left and named.",
    fields=(
        WHERE,
        FieldDefinition("from", "moment", "The first moment.", example="today"),
        FieldDefinition("until", "moment", "The moment at which it ends.", example="today + 7 days"),
    ),
    thing="event",
    looks_up=True,
    effects=(EVENT_EFFECTS.delete, EVENT_EFFECTS.leave, *LINK_EFFECTS),
    check_fields=check_window,
    example='take back "night-plan" in domes\n  from   today\n  until  today + 2 days',
    act=_act,
)
