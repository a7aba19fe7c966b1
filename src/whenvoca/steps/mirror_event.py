"""The steps `mirror event in` and `mirror task in`: one per subject, made, changed and taken away with it."""

from __future__ import annotations

from typing import Any

from msgspec.structs import replace

from whenvoca.calendars.event import Event, from_content
from whenvoca.calendars.state import from_state, to_state
from whenvoca.engine.acting.dated_changes import retry_on_conflict, to_change, to_creation, to_deletion
from whenvoca.engine.acting.keyed import Acting
from whenvoca.engine.acting.meeting_links import end_link, make_link, with_link, without_link, write_with_link
from whenvoca.engine.acting.stage import ExistingThing, Missing
from whenvoca.engine.acting.step_call import StepCall
from whenvoca.engine.effects import Effect
from whenvoca.engine.place_protocols import StoredEvent
from whenvoca.engine.things.event import event_type
from whenvoca.engine.things.task import task_type
from whenvoca.errors import RowFault
from whenvoca.language.definitions import FieldDefinition, Sentence, StepDefinition
from whenvoca.steps.dated_effects import EVENT_EFFECTS, TASK_EFFECTS
from whenvoca.steps.dated_kinds import DatedKind, kind_of
from whenvoca.steps.event_fields import EVENT_FIELDS, check_fields, heed_clashes
from whenvoca.steps.meeting_links import LINK_EFFECTS, WORD, linked, wants_link
from whenvoca.steps.task_fields import TASK_FIELDS, check_task_fields
from whenvoca.values.texts import show_value

IN_SOURCE, IN_COPY, LEFT_ALONE = "as in source", "as in copy", "left alone"

_DISPUTED = "disputed"  # in a base: which disputes have been reported


def _act(call: StepCall) -> Acting:
    made = _made(call)
    if call.about.is_lost:
        yield from _take_away(call, made)
        return None
    rule = call.text("disputed") or LEFT_ALONE
    if isinstance(made, Missing):
        # A subject that was gone for a while, and is there again, begins anew.
        if made.by_another and not call.stage.was_lost_since_made(call.about.place, call.about.key, call.lineage):
            if rule == LEFT_ALONE:
                raise RowFault(
                    f"its {kind_of(call).noun} was taken out of {call.place} by another hand; it is left so",
                    fix="bring it back there, or say: disputed as in source",
                )
            if rule == IN_COPY:
                return None
        return (yield from _make(call, made))
    return (yield from _follow(call, rule))


def _known(call: StepCall) -> ExistingThing | Missing:
    return call.stage.find_made(call.place, call.lineage)


def _is_known(call: StepCall, uid: str) -> bool:
    """Whether the ledger has it as the one that this step keeps."""
    made = call.stage.made(call.place, call.lineage.to_mark())
    return made is not None and made.uid == uid


def _made(call: StepCall) -> ExistingThing | Missing:
    """What stands of this mirror. What existed before is adopted: by the UID that the step gives, else where a step
    that the workflow does not hold any more made it of the same subject."""
    made = _known(call)
    if call.about.is_lost and call.repetition:
        return made  # the element is not there any more, nor the fields that name it
    if not isinstance(made, Missing):
        return made
    if uid := call.text("uid"):
        found = [stored] if (stored := call.stage.find_event(call.place, uid)) is not None else []
    else:
        found = call.stage.made_otherwise(call.place, call.lineage, call.paths) if made.number == 1 else []
    if len(found) > 1:
        titles = ", ".join(f'"{each.event.title}"' for each in found)
        raise RowFault(
            f"{len(found)} {kind_of(call).noun}s in {call.place} were made of it before: {titles}",
            fix="delete those that are too many there",
        )
    return _adopted(call, found[0], made.number) if found else made


def _adopted(call: StepCall, stored: StoredEvent, number: int) -> ExistingThing:
    """With what we last wrote to it as its base, where we made it."""
    event = stored.event
    fields = call.stage.written_fields(call.place, event.uid, call.lineage)
    base = to_state(from_content(event.uid, type(event), fields)) if fields else None
    return ExistingThing(stored, number, is_untouched=False, base=base)


def _make(call: StepCall, made: Missing) -> Acting:
    notes: list[str] = []
    kind = kind_of(call)
    event = kind.make(call, call.lineage.to_uid(made.number), call.lineage.to_mark(), notes)
    event = heed_clashes(call, event, call.text("clash") or call.stage.calendar(call.place).clash, notes)
    event = yield from linked(call, event, "")
    creation = to_creation(event, call.place, made.number, notes, base=to_state(event))
    yield from write_with_link(call.stage, event, creation)
    return call.stage.to_thing(call.place, event)


def _take_away(call: StepCall, made: ExistingThing | Missing) -> Acting:
    if isinstance(made, Missing):
        return
    gone = made.stored.event
    rule = call.text("disputed") or LEFT_ALONE

    def decide() -> Effect | None:
        now = _made(call)
        if isinstance(now, Missing):
            return None
        if rule != IN_SOURCE and (touched := _touched(call, now)):
            raise RowFault(
                f'its {_subject(call)} is gone, but its {kind_of(call).noun} "{now.stored.event.title}" in '
                f"{call.place} was changed by another hand ({', '.join(touched)}); it is left there",
                fix="take it away there, or say: disputed as in source",
            )
        uid = now.stored.event.uid
        return to_deletion(
            now.stored, call.place, uid, lineage=call.lineage.to_mark(), number=now.number, base=now.base
        )

    yield from retry_on_conflict(decide)
    yield from end_link(call.stage, call.place, gone)


def _subject(call: StepCall) -> str:
    return "element of the list" if call.about.is_lost and call.repetition else call.scope.subject_word or "subject"


def _touched(call: StepCall, made: ExistingThing) -> list[str]:
    """What another hand changed since we last wrote it; without a base anything may have been."""
    if made.base is None:
        return []
    base = _base_of(made)
    return [name for name in kind_of(call).groups if not _is_same(call, name, made.stored.event, base)]


def _base_of(made: ExistingThing) -> Event:
    return from_state({name: value for name, value in (made.base or {}).items() if name != _DISPUTED})


def _follow(call: StepCall, rule: str) -> Acting:
    """Each field by itself: what only the source changed is written, what the copy changed too is disputed."""
    kind = kind_of(call)
    disputes: dict[str, str] = {}
    reported: list[str] = []
    is_ours = True
    made_link = ""
    if wants_link(call) and isinstance(before := _made(call), ExistingThing) and not before.stored.event.meeting_link:
        made_link = yield from make_link(call.stage, call.place, before.stored.event)

    def decide() -> Effect | None:
        nonlocal is_ours
        made = _made(call)
        if isinstance(made, Missing):
            return None
        disputes.clear()
        is_ours = made.base is not None
        notes: list[str] = []
        copy = made.stored.event
        wanted = kind.make(call, copy.uid, copy.origin, notes)
        if call.gives(WORD):
            if not call.gives("details"):
                wanted = replace(wanted, details=without_link(copy.details, copy))
            wanted = with_link(wanted, (copy.meeting_link or made_link) if wants_link(call) else "")
        base = None if made.base is None else _base_of(made)
        always = {"time", *(["details"] if call.gives(WORD) else ())}
        given = [name for name, (words, _) in kind.groups.items() if name in always or any(map(call.gives, words))]
        both = [name for name in given if rule != IN_SOURCE and _is_disputed(call, name, copy, wanted, base)]
        taken = [name for name in given if name not in both]
        if rule == LEFT_ALONE:
            disputes.update((name, _said(call, name, copy, wanted)) for name in both)
        reported[:] = (made.base or {}).get(_DISPUTED) or []  # type: ignore[assignment]
        new = _with_groups(kind, replace(copy, sequence=copy.sequence + 1), wanted, taken)
        if kind.noun == "event" and new.span(call.scope.zone) != copy.span(call.scope.zone):
            heeded = heed_clashes(call, new, call.text("clash") or call.stage.calendar(call.place).clash, notes)
            if heeded is not new:  # it is tentative, which is ours to say
                new, taken = heeded, [*taken, "busy"]
                wanted = replace(wanted, busy=heeded.busy)
        known = to_state(_with_groups(kind, base if base is not None else copy, wanted, taken))
        if disputes:
            known[_DISPUTED] = list(disputes.values())
        more: dict[str, Any] = {"lineage": call.lineage.to_mark(), "number": made.number, "base": known}
        change = to_change(made.stored, new, call.place, copy.uid, notes, **more)
        if change is None and (known != made.base or not _is_known(call, copy.uid)):
            return Effect(
                verb=kind.verb("take"),
                place=call.place,
                target=copy.uid,
                after={},
                stored=made.stored,
                event=copy,
                **more,
            )
        return change

    done = yield from retry_on_conflict(decide)
    if disputes and list(disputes.values()) != reported:
        said = "; ".join(disputes.values())
        why = "changed in {} by another hand, and not" if is_ours else "stands in {} already, and not"
        raise RowFault(
            f"{why.format(call.place)} as its {_subject(call)} says: {said}; left as it is",
            fix="make both alike, or say: disputed as in source, or as in copy",
        )
    if done and done[0].event:
        return call.stage.to_thing(call.place, done[0].event)
    made = _made(call)
    return call.stage.to_thing(call.place, made.stored.event) if isinstance(made, ExistingThing) else None


def _is_disputed(call: StepCall, group: str, copy: Event, wanted: Event, base: Event | None) -> bool:
    """Whether the copy was changed too, and not to what is wanted."""
    return not _is_same(call, group, copy, wanted) and (base is None or not _is_same(call, group, copy, base))


def _is_same(call: StepCall, group: str, one: Event, other: Event) -> bool:
    first, second = one.content(), other.content()
    return all(
        first[name] == second[name] and isinstance(first[name], type(second[name]))
        for name in kind_of(call).shown.get(group, (group,))
    )


def _said(call: StepCall, group: str, copy: Event, wanted: Event) -> str:
    pieces = []
    for name in kind_of(call).shown.get(group, (group,)):
        there, here = copy.content()[name], wanted.content()[name]
        if there != here:
            pieces.append(f"{name} {show_value(there) or 'empty'} there, {show_value(here) or 'empty'} here")
    return ", ".join(pieces)


def _with_groups(kind: DatedKind, event: Event, wanted: Event, groups: list[str]) -> Event:
    names = type(event).__struct_fields__
    given = {attribute: getattr(wanted, attribute) for group in groups for attribute in kind.groups[group][1]}
    if "attendees" in given:
        answers = {each.address.lower(): each for each in event.attendees}
        given["attendees"] = tuple(
            replace(answers[each.address.lower()], optional=each.optional) if each.address.lower() in answers else each
            for each in wanted.attendees
        )
        given["organizer"] = wanted.organizer or event.organizer
    return replace(event, **{name: value for name, value in given.items() if name in names})


_RULES = (
    FieldDefinition(
        "disputed",
        "choice",
        "What holds where the copy was changed too: what the source says, what the copy says, or neither is "
        "written over and the run says so, once.",
        choices=(IN_SOURCE, IN_COPY, LEFT_ALONE),
        default=LEFT_ALONE,
    ),
    FieldDefinition(
        "uid", "text", "The UID of one that existed before: it is adopted instead of made anew.", example="Booking"
    ),
)

MIRROR_EVENT = StepDefinition(
    sentence=Sentence("mirror event in CALENDAR"),
    meaning="Keeps one event for each subject: made, changed and taken away with it, also when rows are sorted. What "
    "another hand changed in the event is not written over unseen: `disputed` says what then holds, field by "
    "field. Fields that do not stand below it belong to the calendar. Below `for each` it keeps one for each "
    "element, and takes away that of an element which is not in the list any more.",
    fields=(*_RULES, *EVENT_FIELDS),
    thing="event",
    makes=event_type,
    is_making=True,
    is_mirror=True,
    effects=(EVENT_EFFECTS.create, EVENT_EFFECTS.change, EVENT_EFFECTS.delete, EVENT_EFFECTS.take, *LINK_EFFECTS),
    adds="event",
    check_fields=check_fields,
    example='when duties gains, changes or loses a row\n\nmirror event in staff\n  title     "{Duty}: {Person}"\n'
    "  start     Day at From\n  end       Day at To\n  disputed  left alone",
    act=_act,
)

MIRROR_TASK = StepDefinition(
    sentence=Sentence("mirror task in TASKS"),
    meaning="Keeps one task for each subject: made, changed and taken away with it. What another hand changed in the "
    "task is not written over unseen: `disputed` says what then holds, field by field. Fields that do not "
    "stand below it belong to the list: who ticks the task off does no harm. Below `for each` it keeps one "
    "for each element.",
    fields=(*_RULES, *TASK_FIELDS),
    thing="task",
    makes=task_type,
    is_making=True,
    is_mirror=True,
    effects=(TASK_EFFECTS.create, TASK_EFFECTS.change, TASK_EFFECTS.delete, TASK_EFFECTS.take),
    adds="task",
    check_fields=check_task_fields,
    example='when outreach gains, changes or loses an event\n  where  category is "school"\n\nmirror task in chores\n'
    '  title    "Pack for {event.title}"\n  due      event.start - 1 day\n  section  "packing"\n  person   "tomas"',
    act=_act,
)
