"""Trains the judges of readings on the worlds of requests, each on what those before it did not see.

``make train`` writes ``weights.json`` beside the judges; it needs numpy and scipy, which the program does not.
"""

from __future__ import annotations

import json
import sys
from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, field
from multiprocessing import get_context
from pathlib import Path
from typing import Any

from tests.speech.email_training import Email, email_gold, email_readers, fit_emails, load_emails
from tests.speech.email_training import sureness as email_sureness
from tests.speech.fitting import Group, fit_chance, fit_choice
from tests.speech.own_lines import OwnWorld, own_lines
from tests.speech.worlds import WORLDS, World, event_fits, load_world, plain, reading_fits, targets_fit
from whenvoca.speech.candidates.questions import Question, find_free, find_questions
from whenvoca.speech.candidates.target_sets import TargetSet
from whenvoca.speech.candidates.when import When
from whenvoca.speech.judging.intents import INTENTS, candidates
from whenvoca.speech.judging.judge import Weights
from whenvoca.speech.judging.readings import Candidate, TextReader, doubt_marks
from whenvoca.speech.request import Surroundings
from whenvoca.speech.requests import plain_request

WEIGHTS = Path(__file__).parents[2] / "src/whenvoca/speech/judging/weights.json"
OWN = "own"  # this project's own lines: they train, and are never graded here
MOST_WRONG = 0.02  # of all requests, that may be acted on wrongly
_FOLDS = 3
_SHARED = ("chart", "mentions", "spans", "whens", "text_marks")  # what does not depend on weights


@dataclass
class Line:
    """One request with its gold, and what is found in it whatever the weights."""

    item: Mapping[str, Any]
    world: World
    reader: TextReader
    golds: list[Mapping[str, Any]] = field(default_factory=list)
    is_email: bool = False  # a sentence of an email: it trains the parts of a new event, and nothing else

    @property
    def intent(self) -> str:
        """What it asks for."""
        return {"update": "change"}.get(self.item["gold"]["intent"], self.item["gold"]["intent"])

    @property
    def is_several(self) -> bool:
        """Whether it asks for several new events."""
        return self.intent == "create" and isinstance(self.item["gold"]["fields"], list)

    @property
    def wishes(self) -> list[Mapping[str, Any]]:
        """The single new events that are right."""
        return [
            each["fields"] for each in self.golds if each["intent"] == "create" and not isinstance(each["fields"], list)
        ]

    def by(self, weights: Weights) -> TextReader:
        """The text's reader with other weights."""
        fresh = TextReader(self.reader.text, self.reader.around, weights)
        for name in _SHARED:
            fresh.__dict__[name] = getattr(self.reader, name)
        return fresh

    def fits(self, candidate: Candidate) -> bool:
        """Whether a candidate is what was asked for."""
        if candidate is None:
            return any(each["intent"] == "none" for each in self.golds)
        got = plain_request(self.reader, candidate).to_json()
        return any(reading_fits(self.world, got, each) for each in self.golds)


def load_lines(name: str) -> list[Line]:
    """The lines of a world, or this project's own."""
    world, around, items = _source(name)
    found = []
    for item in items:
        line = Line(item, world, TextReader(item["text"], around, {}), [item["gold"], *(item.get("accept") or [])])
        for shared in _SHARED:
            getattr(line.reader, shared)
        found.append(line)
    return found + _email_lines(name, world) if name != OWN else found


def _email_lines(name: str, world: World) -> list[Line]:
    """The sentences of emails that name the time of an event which is right."""
    found = []
    for item in world.lines("letters"):
        golds = [item["gold"], *(item.get("accept") or [])]
        wanted = [email_gold(each) for gold in golds if gold["intent"] == "create" for each in gold["events"]]
        for reader in email_readers(item, world) if wanted else []:
            line = Line({**item, "gold": {"intent": "create", "fields": wanted[0]}}, world, reader, is_email=True)
            for shared in _SHARED:
                getattr(reader, shared)
            starts = {when.start.isoformat()[:16] for when in reader.whens}
            line.golds = [{"intent": "create", "fields": each} for each in wanted if each["start"][:16] in starts]
            if line.golds:
                found.append(line)
    return found


def _source(name: str) -> tuple[World, Surroundings, list[dict[str, Any]]]:
    if name == OWN:
        world = OwnWorld()
        return world, world.around, own_lines()
    world = load_world(name)
    return world, world.around, world.lines()


# --- the judges of parts


def _when_group(line: Line) -> Group:
    whens: Sequence[When] = line.reader.whens
    return [each.marks for each in whens], [any(_when_fits(line, each, want) for want in line.wishes) for each in whens]


def _when_fits(line: Line, when: When, want: Mapping[str, Any]) -> bool:
    def first(value: Any) -> Any:
        return value[0] if isinstance(value, list) else value

    got = {
        "title": first(want["title"]),
        "start": when.start.isoformat(),
        "end": when.end.isoformat(),
        "whole_day": when.is_whole,
        "location": first(want.get("location")),
        "attendees": want.get("attendees") or [],
        "repeat": when.repeat or None,
        "except": [each.isoformat() for each in when.left_out],
        "reminders": [when.reminder] if when.reminder is not None else [],
    }
    return event_fits(line.world, got, want)


def _span_groups(line: Line) -> tuple[Group, Group]:
    """The stretches of words as titles, and as places; of places none is one more candidate."""
    spans, said = line.reader.spans, line.reader.chart.text.said
    titles = {plain(each) for want in line.wishes for each in _all(want["title"])}
    places = {plain(each) for want in line.wishes for each in _all(want.get("location"))}
    left = [spans.left(n) for n in range(len(spans.kinds))]
    right = [[], *[spans.right(n) for n in range(1, len(spans.kinds) + 1)]]
    marks: list[dict[str, float]] = []
    is_title: list[bool] = []
    is_place: list[bool] = []
    for span in spans.spans:
        marks.append({**spans.inside(span), **dict.fromkeys([*left[span.begin], *right[span.end]], 1.0)})
        text = plain(said(span.begin, span.end))
        is_title.append(text in titles)
        is_place.append(text in places)
    none = any(not want.get("location") for want in line.wishes)
    return (marks, is_title), ([*marks, {"none": 1.0}], [*is_place, none])


def _all(value: Any) -> list[str]:
    return value if isinstance(value, list) else [value] if value else []


def _set_group(line: Line) -> Group:
    sets = line.reader.mentions.sets
    golds = [each["fields"] for each in line.golds if each["intent"] in ("update", "delete")]

    def fits(each: TargetSet) -> bool:
        got = plain_request(line.reader, each).to_json()
        return any(targets_fit(line.world, got, fields) for fields in golds)

    return [each.marks for each in sets], [fits(each) for each in sets]


def _question_group(line: Line, find: Callable[..., list[Question]]) -> Group:
    found = find(line.reader.chart, line.reader.mentions)
    return [each.marks for each in found], [line.fits(each) for each in found]


class _Groups:
    """The groups of each stage that no weights change, made once for each line."""

    def __init__(self) -> None:
        self._known: dict[tuple[int, str], Any] = {}

    def of(self, stage: str, lines: Sequence[Line]) -> list[Group]:
        found = []
        for line in lines:
            key = (id(line), stage)
            if key not in self._known:
                self._known[key] = self._make(stage, line)
            if self._known[key] is not None:
                found.append(self._known[key])
        return found

    def _make(self, stage: str, line: Line) -> Group | None:
        is_single = line.intent == "create" and not line.is_several and bool(line.wishes)
        match stage:
            case "when":
                return _when_group(line) if is_single and line.reader.whens else None
            case "title":
                return _span_groups(line)[0] if is_single else None
            case "place":
                return _span_groups(line)[1] if is_single else None
            case "targets":
                return _set_group(line) if line.intent in ("change", "delete") and line.reader.mentions.sets else None
            case "query" | "free":
                find = find_questions if stage == "query" else find_free
                return _question_group(line, find) if line.intent == stage else None
        if line.intent == "ask" or line.is_email:
            return None
        return candidates(line.reader.text_marks), [line.intent == each for each in INTENTS]


_RESTRAINT = {"when": 0.5, "title": 0.5, "place": 0.5, "targets": 0.5, "query": 1.0, "free": 1.0, "intent": 1.0}


def train_parts(groups: _Groups, lines: Sequence[Line]) -> dict[str, dict[str, float]]:
    """The judges that look at one part each: the time, the title, the place, the events that are meant, the intent."""
    return {stage: fit_choice(groups.of(stage, lines), restraint=restraint) for stage, restraint in _RESTRAINT.items()}


# --- the judges of whole candidates


def _kind_groups(line: Line, weights: Weights) -> dict[str, Group]:
    """The candidates for a new event, or for a change, by weights that did not see the line."""
    reader, found = line.by(weights), {}
    if line.intent == "create" and not line.is_several and line.wishes:
        drafts = reader.drafts()
        found["draft"] = [each.marks for each in drafts], [line.fits(each) for each in drafts]
    if line.intent == "change":
        changes = reader.changes()
        found["change"] = [each.marks for each in changes], [line.fits(each) for each in changes]
    return {stage: group for stage, group in found.items() if group[0]}


def _several_group(line: Line, weights: Weights) -> Group | None:
    found = line.by(weights).several() if line.is_several else []
    return ([each.marks for each in found], [line.fits(each) for each in found]) if found else None


def train(lines: Mapping[str, Sequence[Line]], names: Sequence[str], groups: _Groups) -> dict[str, dict[str, float]]:
    """The judges up to the last one, each trained on candidates that came of weights which had not seen the line."""
    own = list(lines.get(OWN, []))
    folds = [list(names[n::_FOLDS]) for n in range(_FOLDS)]

    def of(some: Sequence[str]) -> list[Line]:
        return [line for name in some for line in lines[name]]

    parts = [train_parts(groups, [*of([each for each in names if each not in fold]), *own]) for fold in folds]
    kinds: list[dict[str, list[Group]]] = []
    for fold, weights in zip(folds, parts, strict=True):
        kinds.append(_collected(of(fold), weights))
    of_own = _collected(own, train_parts(groups, of(names))) if own else {}

    def fit_kinds(some: Sequence[dict[str, list[Group]]]) -> dict[str, dict[str, float]]:
        every = [*some, of_own]
        return {
            stage: fit_choice([g for each in every for g in each.get(stage, [])], restraint=1.0)
            for stage in ("draft", "change")
        }

    several: list[list[Group]] = []
    for n, fold in enumerate(folds):
        parts[n] |= fit_kinds([each for k, each in enumerate(kinds) if k != n])
        several.append([group for line in of(fold) if (group := _several_group(line, parts[n])) is not None])
    last: list[Group] = []
    for n, fold in enumerate(folds):
        others = [group for k, each in enumerate(several) if k != n for group in each]
        parts[n]["several"] = fit_choice(others, restraint=1.0, least=2)
        for line in [each for each in of(fold) if not each.is_email]:
            pairs = line.by(parts[n]).last_marks()
            last.append(([marks for _, marks in pairs], [line.fits(judged.candidate) for judged, _ in pairs]))
    weights = train_parts(groups, [*of(names), *own]) | fit_kinds(kinds)
    weights["several"] = fit_choice([group for each in several for group in each], restraint=1.0, least=2)
    weights["final"] = fit_choice(last, restraint=1.0)
    return weights


def _collected(lines: Sequence[Line], weights: Weights) -> dict[str, list[Group]]:
    found: dict[str, list[Group]] = {"draft": [], "change": []}
    for line in lines:
        for stage, group in _kind_groups(line, weights).items():
            found[stage].append(group)
    return found


# --- doubt


@dataclass
class Read:
    """How a line was read by weights that never saw it."""

    world: str
    kind: str
    voice: str
    marks: dict[str, float]  # of doubt
    right: list[bool]  # of the readings, the likeliest first
    intents: list[str]
    is_found: bool  # whether a right reading is among all candidates
    seconds: float = 0.0
    text: str = ""
    number: str = ""


def read_line(line: Line, weights: Weights) -> Read:
    """A line as it is read."""
    from time import perf_counter

    begin = perf_counter()
    reader = line.by(weights)
    found = reader.readings()
    seconds = perf_counter() - begin
    right = [line.fits(each.candidate) for each in found]
    kind = line.intent + ("s" if line.is_several else "")
    marks = doubt_marks(found, reader.intents, reader.text_marks)
    return Read(
        line.world.name,
        kind,
        line.item.get("voice", ""),
        marks,
        right,
        [each.intent for each in found],
        any(right),
        seconds,
        line.item["text"],
        line.item["id"],
    )


def fit_doubt(reads: Sequence[Read]) -> dict[str, float]:
    """How surely the first reading is right."""
    return fit_chance([each.marks for each in reads], [each.right[0] for each in reads])


def least_sure(pairs: Sequence[tuple[float, Read]], most_wrong: float = MOST_WRONG) -> float:
    """How sure a reading must be, so that of all requests no more are wrongly acted on."""
    acting = sorted((pair for pair in pairs if pair[1].intents[0] != "none"), key=lambda pair: -pair[0])
    wrong, least = 0, 1.0
    for sure, read in acting:
        wrong += not read.right[0]
        if wrong > most_wrong * len(pairs):
            break
        least = sure
    return least


def cross_read(lines: Mapping[str, Sequence[Line]], folds: Sequence[str]) -> tuple[list[Read], list[Email]]:
    """Every world, its requests and emails, and our own lines, read by weights that never saw it."""
    _SHARED_LINES.update(lines)  # a child has them without a copy
    with ProcessPoolExecutor(_AT_ONCE, mp_context=get_context("fork")) as pool:
        found = list(pool.map(_cross_read_fold, [*folds, OWN]))
    return [read for reads, _ in found for read in reads], [email for _, emails in found for email in emails]


_SHARED_LINES: dict[str, Sequence[Line]] = {}
_AT_ONCE = 2


def _cross_read_fold(fold: str) -> tuple[list[Read], list[Email]]:
    left_out = [OWN] if fold == OWN else list(fold)
    lines = {name: some for name, some in _SHARED_LINES.items() if name not in left_out}
    weights = train(lines, [each for each in WORLDS if each not in left_out], _Groups())
    weights["doubt"] = {}
    found = [read_line(line, weights) for name in left_out for line in _SHARED_LINES[name] if not line.is_email]
    emails = [email for name in left_out if name != OWN for email in load_emails(name, weights)]
    print(f"  read {fold} by weights that never saw it", file=sys.stderr, flush=True)
    return found, emails


FOLDS = ("ACE", "DNG", "JKP", "QMR")


def sureness(reads: Sequence[Read], folds: Sequence[str] = FOLDS) -> list[tuple[float, float]]:
    """How sure each reading is and must be, by a model of doubt that never saw its world."""
    from whenvoca.speech.judging.judge import chance, score

    fold_of = {name: fold for fold in folds for name in fold}  # our own lines are of none: they only train
    found: dict[int, tuple[float, float]] = {}
    for fold in folds:
        others = [each for each in reads if fold_of.get(each.world) != fold]
        doubt = fit_doubt(others)
        pairs = []
        for inner in folds:
            if inner != fold:
                weights = fit_doubt([each for each in others if fold_of.get(each.world) != inner])
                inside = [each for each in others if fold_of.get(each.world) == inner]
                pairs += [(chance(score(weights, each.marks)), each) for each in inside]
        least = least_sure(pairs)
        for n, each in enumerate(reads):
            if fold_of.get(each.world) == fold:
                found[n] = (chance(score(doubt, each.marks)), least)
    return [found[n] for n in sorted(found)]


def main() -> None:
    """Trains on everything and writes the weights."""
    lines = {name: load_lines(name) for name in [*WORLDS, OWN]}
    reads, emails = cross_read(lines, FOLDS)
    weights = train(lines, list(WORLDS), _Groups())
    weights["doubt"] = fit_doubt(reads)
    weights["email"] = fit_emails(emails)
    sure = sureness(reads)
    of_emails = [least for _, _, least in email_sureness(emails)]
    weights["act"] = {
        "least": round(sum(least for _, least in sure) / len(sure), 4),
        "email": round(sum(of_emails) / len(of_emails), 4),
    }
    WEIGHTS.write_text(json.dumps(weights, indent=0, ensure_ascii=False, sort_keys=True) + "\n", encoding="utf-8")
    print(f"{sum(map(len, weights.values()))} weights in {WEIGHTS.name}; acts from {weights['act']['least']} on")
    from tests.speech.grade import show, show_emails

    show(reads)
    show_emails(emails)


if __name__ == "__main__":
    main()
