"""What a text asks for: read by itself, or together with what was asked and said before.

A reading that is sure enough is a request. Of one that is not, up to three are offered, in words, to choose from.
"""

from __future__ import annotations

from collections.abc import Sequence

from msgspec.structs import replace

from whenvoca.speech.answers import answer_to, short_answer
from whenvoca.speech.candidates.change import Change
from whenvoca.speech.candidates.cues import DELETING_WORDS, cues_of
from whenvoca.speech.candidates.drafts import Draft, likely_title
from whenvoca.speech.candidates.several import Several
from whenvoca.speech.candidates.target_sets import TargetSet
from whenvoca.speech.following import WHOLE_DAY, follow
from whenvoca.speech.judging.intents import INTENTS
from whenvoca.speech.judging.judge import Weights, shipped
from whenvoca.speech.judging.leftovers import Explaining
from whenvoca.speech.judging.readings import Reading, TextReader
from whenvoca.speech.offering import offer, which_of
from whenvoca.speech.request import Intent, Request, Surroundings, Wish
from whenvoca.speech.requests import to_request
from whenvoca.speech.searching import search_request
from whenvoca.speech.totals import totals_request

MOST_OFFERS = 3
_PLAIN = 0.3  # how sure an order must be of which nothing is left
_COURTESY = frozenset("please can could would you kindly hi hello ok okay just also , .".split())
_ORDERS = frozenset(
    "move rename cancel delete remove change shift push postpone extend shorten invite reschedule".split()
)
_MOST_WORDS = 2  # of an answer, beside times and people
_GOING_ON = frozenset("in at on with for no not make until from actually sorry to rather".split())
_STARTING = frozenset("what what's when when's where where's who am is are do cancel delete add book move".split())
_ALL = frozenset("all every each series whole".split())
_MOST_OF_ZONE = 5  # words that an answer names a zone with
_DELETING = frozenset("cancel delete remove drop erase scrap".split())


def understand(text: str, around: Surroundings, weights: Weights | None = None) -> Request:
    """The request in a text. Never raises; a text of any kind gives an answer in bounded time."""
    request = _understand(text, around, weights or shipped())
    request.text = request.text or text
    request.today = around.now.astimezone(around.zone).date()
    for each in request.offers:
        each.text, each.today = request.text, request.today
    return request


def _understand(text: str, around: Surroundings, weights: Weights) -> Request:
    reader = TextReader(text, around, weights)
    if not reader.chart.text.tokens:
        return Request()
    if (short := short_answer(reader)) is not None:
        return short
    if around.pending is not None:
        if (answered := answer_to(reader, around.pending)) is not None:
            return answered
        if (joined := _with_pending(reader, around.pending, weights)) is not None:
            return joined
    if (search := search_request(reader) or totals_request(reader)) is not None:
        return search
    if around.last and (followed := follow(reader)) is not None:
        return followed
    return _alone(reader)


def _with_pending(reader: TextReader, pending: Request, weights: Weights) -> Request | None:
    """An answer that completes or corrects what was asked about: both texts read as one. None where it is no answer."""
    lows = reader.chart.text.lows
    says_time = bool(reader.chart.days or reader.chart.clocks or reader.chart.stretches or reader.chart.lengths)
    if pending.missing == ["zone"] and not says_time and len(lows) <= _MOST_OF_ZONE:
        return _with_zone(reader, pending, weights)
    if _stands_alone(reader):
        return None
    is_open = pending.intent == "ask" and (pending.purpose in ("create", "change"))
    if not is_open or len(lows) > 10 or pending.missing == ["calendar"]:
        return None
    if pending.missing == ["title"] and not says_time and pending.events:
        wish = replace(pending.events[0], title=reader.text.strip(" .!\"'"))
        return Request("create", events=[wish], text=f"{pending.text} {reader.text}")
    if not says_time and not reader.chart.people and reader.chart.text.lows[0] not in ("no", "not", "in", "at"):
        return None
    text = f"{pending.text}, {reader.text}"
    alone = replace(reader.around, pending=None, last=())
    request = _alone(TextReader(text, alone, weights), least=0.5)
    request.text = text
    return request if request.intent != "none" else None


def _with_zone(reader: TextReader, pending: Request, weights: Weights) -> Request | None:
    """What was asked about, with the zone named in the answer in place of the one in doubt. None where it is none."""
    alone = replace(reader.around, pending=None, last=())
    chart = TextReader(pending.text, alone, weights).chart
    text, doubtful = chart.text, next(each for each in chart.zones if each.value.doubt)
    said = reader.text.strip(" .!")
    named = said if said.lower().endswith(" time") else f"{said} time"
    whole = f"{text.said(0, doubtful.begin)} {named} {text.said(doubtful.end, len(text.tokens))}".strip()
    joined = TextReader(whole, alone, weights)
    if not joined.chart.zones or any(each.value.doubt for each in joined.chart.zones):
        return None
    request = _alone(joined, least=0.5)
    request.text = whole
    return request


def _stands_alone(reader: TextReader) -> bool:
    """Whether a text says too much to be the rest of another one: it asks, orders, or has words of its own."""
    lows, kinds = reader.chart.text.lows, reader.spans.kinds
    if "?" in lows or lows[0] in _STARTING:
        return True
    words = sum(kind in ("word", "Word", "PLACE") for kind in kinds)
    return words > (_MOST_WORDS if lows[0] in _GOING_ON else 0)


def _alone(reader: TextReader, *, least: float = 1.0) -> Request:
    """A text read by itself; ``least``: the share of the usual sureness that is enough."""
    lows = set(reader.chart.text.lows)
    readings = [each for each in reader.readings() if each.intent != "delete" or lows & DELETING_WORDS]
    first = readings[0]
    if is_doubtful(reader, first):  # what says all comes before what says one
        readings.sort(key=lambda each: _scope_of(each) == "this")
        first = readings[0]
    is_new = max(range(len(reader.intents)), key=lambda n: reader.intents[n]) == 0
    if is_new and not reader.whens:
        return _without_time(reader)
    if first.intent == "none":
        return _unknown_target(reader)
    if (which := _ambiguous(reader, first)) is not None:
        return which
    request = to_request(reader, first)
    enough = reader.weights["act"]["least"] * least if not is_plain_order(reader, first) else _PLAIN
    if first.sure >= enough and not is_doubtful(reader, first):
        return request
    others = [request, *_others(reader, readings[1:], request)]
    if request.question or (len(others) == 1 and request.intent in ("query", "free")):
        return request  # a question that has one answer needs no question back
    return offer(others[:MOST_OFFERS], reader.around)


def _unknown_target(reader: TextReader) -> Request:
    """Nothing; or which event is meant, where something is to be changed or deleted that is not found."""
    lows = reader.chart.text.lows
    likeliest = INTENTS[max(range(len(reader.intents)), key=lambda n: reader.intents[n])]
    whole = [each for each in reader.mentions.named if each.event.is_whole_day and each.title_share >= 0.5]
    if likeliest == "change" and whole and (reader.chart.clocks or reader.chart.lengths):
        return Request("ask", targets=[whole[0].target], question=WHOLE_DAY, missing=["start"], purpose="change")
    if likeliest in ("change", "delete") or (lows[0] in _DELETING and len(lows) <= 5):
        return Request("ask", question="Which event is meant?", missing=["which"], purpose=likeliest)
    return Request()


def _ambiguous(reader: TextReader, reading: Reading) -> Request | None:
    """Which one, where other events fit what is said of the target just as well. None where only one does."""
    candidate = reading.candidate
    targets = candidate.targets if isinstance(candidate, Change) else candidate
    if not isinstance(targets, TargetSet) or len({each.event.uid for each in targets.members}) != 1:
        return None
    mentions, chosen = reader.mentions, targets.first
    said = mentions.matched(chosen.event.title)[3]
    days = targets.used if isinstance(candidate, Change) else reader.chart.days  # a change's other days may be new ones
    days = [day for day in days if mentions.on(chosen, day.value)]
    rivals = [chosen.target]
    for each in mentions.named:
        if each.event.uid in {rival.event.uid for rival in rivals} or each.end <= reader.chart.now:
            continue
        words = mentions.matched(each.event.title)[3]
        if (
            said
            and said <= words
            and all(mentions.on(each, day.value) for day in days)
            and each.has_person >= chosen.has_person
            and each.is_phrase >= chosen.is_phrase
        ):
            rivals.append(each.target)
    if len(rivals) < 2:
        return None
    verb: Intent = "delete" if reading.intent == "delete" else "change"
    return which_of(sorted(rivals, key=lambda each: each.event.span(reader.around.zone)[0]), verb, reader.around)


def _scope_of(reading: Reading) -> str:
    candidate = reading.candidate
    targets = candidate.targets if isinstance(candidate, Change) else candidate
    return targets.scope if isinstance(targets, TargetSet) else "this"


def is_plain_order(reader: TextReader, reading: Reading) -> bool:
    """Whether a text begins with the verb of a change or deletion, names a single event in full, and the reading leaves
    nothing of it: rename band to choir."""
    lows = [low for low in reader.chart.text.lows if low not in _COURTESY]
    candidate = reading.candidate
    if not isinstance(candidate, Change | TargetSet) or not lows or lows[0] not in _ORDERS:
        return False
    targets = candidate.targets if isinstance(candidate, Change) else candidate
    event = targets.first.event
    if len(targets.members) > 1 or not targets.first.is_phrase or event.is_series or event.occurrence is not None:
        return False
    explaining = Explaining(reader.chart, reader.spans, reader.mentions)
    words = [low for low in explaining.left_words(candidate) if not cues_of([low]) and low not in DELETING_WORDS]
    return not words and not any(mark.startswith("u any") for mark in explaining.marks(candidate))


def is_doubtful(reader: TextReader, reading: Reading) -> bool:
    """Whether something stands against a reading, however sure the judge is.

    A zone may belong to what stands as well as to what is new, a number in the title where no day is said may be
    a day, one occurrence is not all of them, and nothing is changed where no word asks for it.
    """
    candidate = reading.candidate
    zones = {each.value.name for each in reader.chart.zones}
    if len(zones) > 1 or (zones and not isinstance(candidate, Draft | Several)):
        return True
    if isinstance(candidate, Draft):
        marks, title = candidate.when.marks, candidate.title
        assert title is not None
        has_number = "NUMBER" in reader.spans.kinds[title.begin : title.end]
        return bool(marks.get("day none")) and bool(marks.get("rolled over") or has_number)
    lows = set(reader.chart.text.lows)
    if isinstance(candidate, Change) and not (cues_of(lows) or "->" in lows):
        return True
    targets = candidate.targets if isinstance(candidate, Change) else candidate
    if isinstance(targets, TargetSet) and targets.scope == "this" and len(targets.members) == 1:
        event = targets.first.event
        return (event.is_series or event.occurrence is not None) and bool(_ALL & lows)
    return False


def _others(reader: TextReader, readings: Sequence[Reading], first: Request) -> list[Request]:
    """Further readings that differ from each other."""
    found: list[Request] = []
    seen = [first.to_json()]
    for each in readings:
        if each.intent == "none" or len(found) >= MOST_OFFERS:
            continue
        request = to_request(reader, each)
        told = {**request.to_json(), "because": None}
        if request.question or any({**other, "because": None} == told for other in seen):
            continue
        seen.append(told)
        found.append(request)
    return found


def _without_time(reader: TextReader) -> Request:
    """A new event of which nothing says when it is."""
    title = likely_title(reader.spans, reader.weights)
    wish = Wish(title)
    question = "When is it?" if title else "What shall it be called, and when is it?"
    missing = ["start"] if title else ["title", "start"]
    return Request("ask", events=[wish], question=question, missing=missing, purpose="create")
