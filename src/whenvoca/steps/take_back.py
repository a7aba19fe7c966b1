"""The step `take back "WORKFLOW" in CALENDAR`: what it made between two moments goes, unless somebody changed it."""

from __future__ import annotations

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
from whenvoca.steps.meeting_links import LINK_EFFECTS
from whenvoca.steps.windows import check_window, window


def _act(call: StepCall) -> Acting:
    calendar = call.stage.calendar(call.place)
    marks = calendar.find_marks(Lineage.prefix(call.stage.workspace.root, call.quoted("WORKFLOW")))
    by_uid = {uid: mark for mark, uid in marks.items()}
    for each in call.where.recalled(lambda: _search(call, list(by_uid))):
        lineage = Lineage.from_mark(by_uid.get(each.key, ""))
        if lineage is None:
            continue

        def decide(lineage: Lineage = lineage, each: Found = each) -> Effect | None:
            made = call.stage.find_made(call.place, lineage)
            if not isinstance(made, ExistingThing):
                return None
            more = {"lineage": lineage.to_mark(), "number": made.number}
            if made.is_untouched:
                return to_deletion(made.stored, call.place, each.key, **more)
            said = f'"{made.stored.event.title}" was changed by another hand and is left as it is'
            return Effect(
                verb="take event as made",
                place=call.place,
                target=each.key,
                after={},
                stored=made.stored,
                notes=(said,),
            )

        yield from retry_on_conflict(decide)
        yield from end_link(call.stage, call.place, from_state(each.state))


def _search(call: StepCall, uids: list[str]) -> list[Found]:
    """The whole plan, so that a run cut short goes on with the same events."""
    calendar = call.stage.calendar(call.place)
    low, high = window(call)
    found = []
    for uid in uids:
        stored = calendar.find_event(uid)
        if stored is None:
            continue
        begin = stored.event.span(calendar.zone)[0]
        if low is None or high is None or low <= begin < high:
            found.append(Found(calendar.name, uid, to_state(stored.event)))
    return sorted(found, key=lambda each: from_state(each.state).span(calendar.zone)[0])


TAKE_BACK = StepDefinition(
    sentence=Sentence("take back WORKFLOW in CALENDAR"),
    meaning="Deletes the events that a workflow made there and that begin between two moments (without them: all). "
    "What another hand has changed since is left and named.",
    fields=(
        FieldDefinition("from", "moment", "The first moment.", example="today"),
        FieldDefinition("until", "moment", "The moment at which it ends.", example="today + 7 days"),
    ),
    effects=(EVENT_EFFECTS.delete, EVENT_EFFECTS.take, *LINK_EFFECTS),
    check_fields=check_window,
    example='take back "night-plan" in domes\n  from   today\n  until  today + 2 days',
    act=_act,
)
