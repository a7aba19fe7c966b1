"""The step `spread tasks in CALENDAR`: a list of jobs laid over a stretch of time, as a plan that can be laid again."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping
from datetime import UTC, datetime, time, timedelta
from decimal import Decimal
from fractions import Fraction
from typing import Any, NamedTuple

from msgspec import Struct
from msgspec.structs import replace

from whenvoca.calendars.free_time import Span, Window, busy_spans, spans_of
from whenvoca.calendars.spreading import FreeLine, NoRoom, lay_by_lengths, lay_by_weights
from whenvoca.engine.acting.dated_changes import retry_on_conflict, to_change, to_creation, to_deletion
from whenvoca.engine.acting.keyed import Acting
from whenvoca.engine.acting.stage import ExistingThing, Missing
from whenvoca.engine.acting.step_call import StepCall
from whenvoca.engine.effects import Effect
from whenvoca.engine.lineage import Lineage
from whenvoca.engine.things.event import EventThing, event_type
from whenvoca.errors import RowFault
from whenvoca.language.definitions import FieldDefinition, Sentence, StepDefinition
from whenvoca.language.faults import Spot
from whenvoca.language.operations import to_instant, to_list
from whenvoca.language.types import NUMBER, TEXT, Type, list_of
from whenvoca.steps.dated_effects import EVENT_EFFECTS
from whenvoca.steps.event_fields import EVENT_FIELDS, TIMES, event_at
from whenvoca.steps.windows import window
from whenvoca.values.durations import Duration, show_duration
from whenvoca.values.kinds import is_empty
from whenvoca.values.texts import show_value

_MOST = 2000
_LONGEST = timedelta(days=3 * 366)
_GIVEN = {"task": TEXT, "number": NUMBER, "total": NUMBER}
_OWN = {*TIMES, "repeat", "clash", "meeting-link"}  # fields of an event that a piece does not take


class _Job(Struct):
    """One job: ``name`` makes it the same one when the plan is laid again, ``number`` is its place in the list."""

    text: str
    name: str
    number: int
    weight: Fraction = Fraction(1)
    length: int = 0  # seconds
    due: datetime | None = None


class _Piece(NamedTuple):
    lineage: Lineage
    job: _Job
    span: Span


class Plan(list[EventThing]):
    """The pieces of a plan in order, and the jobs that are left out."""

    def __init__(self, pieces: list[EventThing], left: list[str]) -> None:
        super().__init__(sorted(pieces, key=lambda each: each.value_of("start")))
        self.left = left

    def value_of(self, word: str) -> Any:
        """The jobs that are left out, by `left`. Raises KeyError for another word."""
        return {"left": self.left}[word]

    def where_is(self, word: str) -> str:
        """What it is, for messages."""
        return "the plan"


def _act(call: StepCall) -> Acting:
    known = _known(call)
    jobs = [] if call.about.is_lost else _jobs(call)
    stays = {lineage.repetition: made for lineage, made in known.items() if _is_by_hand(made)}
    by_hand = {_job_name(call, repetition) for repetition in stays}
    spans = [each.stored.event.span(call.scope.zone) for each in stays.values() if isinstance(each, ExistingThing)]
    pieces, left = _lay(call, [job for job in jobs if job.name not in by_hand], spans, known)
    found = [
        call.stage.to_thing(call.place, made.stored.event) for made in stays.values() if isinstance(made, ExistingThing)
    ]
    wanted = {piece.lineage.repetition for piece in pieces}
    for lineage, made in known.items():
        if lineage.repetition not in wanted and isinstance(made, ExistingThing) and not _is_by_hand(made):
            yield from retry_on_conflict(lambda lineage=lineage: _to_deletion(call, lineage))  # type: ignore[misc]
    for piece in pieces:
        found.append((yield from _put(call, piece, len(jobs))))
    gone = {_job_name(call, name) for name, made in stays.items() if isinstance(made, Missing)}
    return Plan(found, [*left, *(job.text for job in jobs if job.name in gone)])


# --- what stands of the plan


def _known(call: StepCall) -> dict[Lineage, ExistingThing | Missing]:
    """What was made of this plan before."""
    marks = call.stage.marks_made(call.place, call.lineage.siblings)
    own = (Lineage.from_mark(mark) for mark in marks)
    begin = f"{call.repetition}/" if call.repetition else ""
    return {
        each: call.stage.find_made(call.place, each)
        for each in own
        if each is not None and each.repetition.startswith(begin)
    }


def _is_by_hand(made: ExistingThing | Missing) -> bool:
    """Whether a person changed the piece, or took it out."""
    return made.by_another if isinstance(made, Missing) else not made.is_untouched


def _job_name(call: StepCall, repetition: str) -> str:
    """The job of a piece, by the piece's place in the plan."""
    own = repetition[len(call.repetition) + 1 :] if call.repetition else repetition
    return own.rpartition(" ~")[0] or own


def _to_deletion(call: StepCall, lineage: Lineage) -> Effect | None:
    made = call.stage.find_made(call.place, lineage)
    if not isinstance(made, ExistingThing) or not made.is_untouched:
        return None
    return to_deletion(made.stored, call.place, made.stored.event.uid, lineage=lineage.to_mark(), number=made.number)


# --- the jobs


def _jobs(call: StepCall) -> list[_Job]:
    given = call.value("tasks")
    texts = given.split("\n") if isinstance(given, str) else [_text(each) for each in to_list(given)]
    texts = [" ".join(text.split()) for text in texts if text.strip()]
    if len(texts) > _MOST:
        raise RowFault(f"there are {len(texts):,} tasks, and {_MOST:,} are the most", fix="spread them in parts")
    counted: Counter[str] = Counter()
    jobs = []
    for number, text in enumerate(texts, 1):
        counted[text] += 1
        jobs.append(_Job(text, f"{text}.{counted[text]}", number))
    for job, weight in zip(jobs, _beside(call, "weights", jobs), strict=False):
        job.weight = _weight(job, weight)
    for job, length in zip(jobs, _beside(call, "lengths", jobs), strict=False):
        job.length = _length(job, length)
    for job, due in zip(jobs, _beside(call, "due", jobs), strict=False):
        job.due = None if is_empty(due) else to_instant(due, call.scope.zone).astimezone(UTC)
    if call.text("order") == "by due":
        jobs.sort(key=lambda job: (job.due is None, job.due or datetime.max.replace(tzinfo=UTC)))
    return jobs


def _text(value: Any) -> str:
    if hasattr(value, "value_of"):
        try:
            return show_value(value.value_of("title"))
        except KeyError:
            raise RowFault(
                "tasks: these have no title", fix="say which field is meant: tasks  each t in …: t.Job"
            ) from None
    return show_value(value)


def _beside(call: StepCall, word: str, jobs: list[_Job]) -> list[Any]:
    """A list that says something of each job. Raises RowFault where it has more or fewer."""
    if not call.gives(word):
        return []
    values = to_list(call.value(word))
    if len(values) != len(jobs):
        raise RowFault(f"{len(jobs)} tasks and {len(values)} {word}", fix=f"give one of the {word} for each task")
    return values


def _weight(job: _Job, value: Any) -> Fraction:
    if isinstance(value, bool) or not isinstance(value, int | Decimal) or value <= 0:
        raise RowFault(
            f'the weight of "{job.text}" is {show_value(value) or "empty"}', fix="weights are numbers above 0"
        )
    return Fraction(value)


def _length(job: _Job, value: Any) -> int:
    if not isinstance(value, Duration) or value.months or value.to_seconds() < 60:
        said = show_value(value) or "empty"
        raise RowFault(f'the length of "{job.text}" is {said}', fix="lengths are durations of a minute or more")
    return round(value.to_seconds() / 60) * 60


# --- laying


def _lay(
    call: StepCall, jobs: list[_Job], stays: list[Span], known: Mapping[Lineage, ExistingThing | Missing]
) -> tuple[list[_Piece], list[str]]:
    """The pieces of the jobs, and what is left out. Raises RowFault where they do not fit."""
    if not jobs:
        return [], []
    low, high = window(call)
    if low is None or high is None:
        raise RowFault("from and until are empty", fix="say from when until when the tasks are spread")
    if high - low > _LONGEST:
        raise RowFault(f"from {show_value(low)} until {show_value(high)} is too long", fix="three years at most")
    pause, least = _seconds(call, "pause"), _seconds(call, "least")
    line = FreeLine(_windows(call, low, high), [*_busy(call, low, high, known), *stays], least)
    if call.gives("lengths"):
        laid: list[list[Span] | None] = lay_by_lengths(line, [job.length for job in jobs], pause, least)
        left = [job.text for job, spans in zip(jobs, laid, strict=True) if spans is None]
        if left and call.text("overflow") != "leave":
            raise RowFault(_no_room(line, jobs, pause, f'; the first without room is "{left[0]}"'), fix=_FIX)
    else:
        laid, left = _by_weights(call, line, jobs, pause, least)
    pieces = []
    for job, spans in zip(jobs, laid, strict=True):
        for count, span in enumerate(spans or ()):
            own = f"{job.name} ~{count + 1}" if count else job.name
            repetition = f"{call.repetition}/{own}" if call.repetition else own
            pieces.append(_Piece(replace(call.lineage, repetition=repetition), job, span))
    return pieces, left


_FIX = "give more time, shorter pauses or fewer tasks; overflow leave leaves out what does not fit"


def _by_weights(
    call: StepCall, line: FreeLine, jobs: list[_Job], pause: int, least: int
) -> tuple[list[list[Span] | None], list[str]]:
    """All of the jobs, or with `overflow leave` as many from the first on as fit."""
    count = len(jobs)
    while count:
        try:
            laid = lay_by_weights(line, [job.weight for job in jobs[:count]], pause, least)
        except NoRoom:
            if call.text("overflow") != "leave":
                raise RowFault(_no_room(line, jobs, pause, ""), fix=_FIX) from None
            count -= 1
        else:
            return [*laid, *([None] * (len(jobs) - count))], [job.text for job in jobs[count:]]
    return [None] * len(jobs), [job.text for job in jobs]


def _no_room(line: FreeLine, jobs: list[_Job], pause: int, more: str) -> str:
    """The figures of what does not fit."""
    pauses = len(jobs) - 1
    needed = sum(job.length for job in jobs)
    said = f"{len(jobs)} task{'s' * (len(jobs) != 1)}" + (f" of {_shown(needed)}" if needed else "")
    said += f" with {pauses} pause{'s' * (pauses != 1)} of {_shown(pause)}" if pauses and pause else ""
    return f"{said} do not fit into {_shown(line.length)} of free time{more}"


def _shown(seconds: int) -> str:
    return show_duration(Duration(seconds=seconds))


def _seconds(call: StepCall, word: str) -> int:
    value = call.value(word)
    if value is None:
        return 0
    if not isinstance(value, Duration) or value.months or value.to_seconds() < 0:
        raise RowFault(f"{word}: {show_value(value)} is not a length of time", fix=f"such as {word}  15 minutes")
    return round(value.to_seconds())


def _windows(call: StepCall, low: datetime, high: datetime) -> list[Span]:
    """When of the whole time work is done: between the hours, on the days that are named."""
    if not call.gives("hours") and not call.gives("days"):
        return [(low.astimezone(UTC), high.astimezone(UTC))]
    begin, end = call.value("hours") if call.gives("hours") else call.stage.workspace.hours
    if not isinstance(begin, time) or not isinstance(end, time) or begin == end:
        raise RowFault("hours: here stand two times of day", fix="such as hours  09:00 and 17:00")
    days = frozenset(call.value("days", range(7)))
    return list(spans_of(Window(begin, end, days), low, high, call.scope.zone))


def _busy(
    call: StepCall, low: datetime, high: datetime, known: Mapping[Lineage, ExistingThing | Missing]
) -> list[Span]:
    """When what it goes around takes time; neither the plan itself, nor what it is laid for, is in its way."""
    own = {made.stored.event.uid for made in known.values() if isinstance(made, ExistingThing)}
    if isinstance(call.subject, EventThing):
        own.add(call.subject.uid)
    found: list[Span] = []
    for name in call.value("around", ()):
        calendar = call.stage.calendar(name)
        events = [each for each in calendar.find_between(low, high) if each.uid not in own]
        found += busy_spans(events, calendar.zone, holds=calendar.clash_rule.holds)
    return found


# --- writing


def _put(call: StepCall, piece: _Piece, total: int) -> Acting:
    """Makes a piece, or makes of the one that stands what it is to be now."""
    zone, mark = call.scope.zone, piece.lineage.to_mark()
    begin, end = (each.astimezone(zone) for each in piece.span)
    inside = call.for_one(call.place, task=piece.job.text, number=piece.job.number, total=total)
    due, notes = piece.job.due, []
    if due is not None and piece.span[1] > due:
        notes.append(f'"{piece.job.text}" ends after it is due, {show_value(due.astimezone(zone))}')

    def decide() -> Effect | None:
        made = call.stage.find_made(call.place, piece.lineage)
        uid = made.stored.event.uid if isinstance(made, ExistingThing) else piece.lineage.to_uid(made.number)
        event = event_at(inside, uid, mark, begin, end)
        if not inside.gives("title"):
            event = replace(event, title=piece.job.text)
        if isinstance(made, Missing):
            return to_creation(event, call.place, made.number, notes)
        event = replace(event, sequence=made.stored.event.sequence + 1, alarms=event.alarms)
        return to_change(made.stored, event, call.place, uid, notes, lineage=mark, number=made.number)

    done = yield from retry_on_conflict(decide)
    if done is not None and done[0].event is not None:
        return call.stage.to_thing(call.place, done[0].event)
    made = call.stage.find_made(call.place, piece.lineage)
    assert isinstance(made, ExistingThing)
    return call.stage.to_thing(call.place, made.stored.event)


# --- the definition


def _check(given: Mapping[str, Spot]) -> Iterator[tuple[str, str, str]]:
    for word in ("tasks", "from", "until"):
        if word not in given:
            fix = "what is to be done?" if word == "tasks" else "say from when until when the tasks are spread"
            yield "", f"{word} is missing", fix
    if "weights" in given and "lengths" in given:
        yield "lengths", "weights and lengths do not go together", "leave one of them"


def _plan_type(call: Any) -> Type:
    plan = list_of(event_type(call))
    return replace(plan, fields={"left": list_of(TEXT)}, written=("left",))


def _piece_fields() -> Iterator[FieldDefinition]:
    for each in EVENT_FIELDS:
        if each.name == "title":
            yield replace(each, given=_GIVEN, default="the task", example='"{number}: {task}"')
        elif each.name not in _OWN:
            yield replace(each, given=_GIVEN)


SPREAD_TASKS = StepDefinition(
    sentence=Sentence("spread tasks in CALENDAR"),
    meaning="Lays the tasks of a list one after the other over a stretch of time, as events: in equal parts, by "
    "weights or with lengths. By weights the last one ends exactly with the time, all other boundaries are whole "
    "minutes. Where what it goes around takes time a task is cut, and goes on behind it. Run again, also with another "
    "list, the plan is changed: what somebody changed or took out by hand stays so, and the others go around it. NAME "
    "holds the events in order, NAME.left the tasks that are left out. In the fields of an event stand {task}, "
    "{number} and {total}.",
    fields=(
        FieldDefinition(
            "tasks", "list", "What is to be done: a list, or a text with one a line.", example="each t in todo: t.Job"
        ),
        FieldDefinition("from", "moment", "When it begins.", example="event.start"),
        FieldDefinition("until", "moment", "When it ends.", example="event.end"),
        FieldDefinition("pause", "duration", "How long between two tasks.", default="none", example="9 minutes"),
        FieldDefinition(
            "weights",
            "list",
            "How much of the time each task gets, a number for each.",
            example="each t in todo: t.Weight",
        ),
        FieldDefinition("lengths", "list", "How long each task takes.", example="45 minutes, 1 hour"),
        FieldDefinition("around", "calendars", "Calendars whose events are in the way.", example="domes, staff"),
        FieldDefinition(
            "hours", "between", "Only between these times of day, also over midnight.", example="09:00 and 17:00"
        ),
        FieldDefinition(
            "days", "weekdays", "Only on these days; without hours, in the working hours.", example="weekdays"
        ),
        FieldDefinition("least", "duration", "How long a piece of a task has to be.", example="15 minutes"),
        FieldDefinition(
            "due", "list", "When each task is due; one that ends later is told.", example="each t in todo: t.Due"
        ),
        FieldDefinition(
            "order", "choice", "In which order they are done.", choices=("as given", "by due"), default="as given"
        ),
        FieldDefinition(
            "overflow",
            "choice",
            "What happens if they do not fit: nothing is planned, or those without room are left out.",
            choices=("refuse", "leave"),
            default="refuse",
        ),
        *_piece_fields(),
    ),
    makes=_plan_type,
    is_making=True,
    is_plan=True,
    adds="event",
    effects=(EVENT_EFFECTS.create, EVENT_EFFECTS.change, EVENT_EFFECTS.delete),
    check_fields=_check,
    example='spread tasks in staff as pieces\n  tasks  "flat fields", "focus", "darks"\n  from   event.start\n'
    "  until  event.end\n  pause  9 minutes",
    act=_act,
)
