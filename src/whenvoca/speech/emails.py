"""Longer texts, such as emails: read sentence by sentence for the events that they propose."""

from __future__ import annotations

import re
from datetime import date

from msgspec import Struct

from whenvoca.speech.candidates.drafts import Draft
from whenvoca.speech.judging.judge import Weights, chance, score, shares, shipped
from whenvoca.speech.judging.readings import Reading, TextReader
from whenvoca.speech.offering import offer
from whenvoca.speech.request import Request, Surroundings
from whenvoca.speech.requests import to_request
from whenvoca.speech.understanding import MOST_OFFERS, understand

_SENTENCE = re.compile(r"(?<=[.!?])\s+(?=[A-Z0-9\"'“‘])|\n\s*\n|\n(?=\s*[-*•>\d])")
_GREETING = re.compile(
    r"\s*(?:hi|hello|dear|hey|good (?:morning|afternoon|evening))\b[^\n]{0,60}[,!:]?\s*\n", re.IGNORECASE
)
_REPLY = re.compile(r"^\s*(?:(?:re|fwd?|aw)\s*:\s*)+", re.IGNORECASE)
_MOST_SENTENCES = 60
_PERHAPS = 0.25  # how sure a proposal must be to be offered


class Proposal(Struct):
    """What one sentence may propose, and what the judge of emails looks at."""

    reader: TextReader
    draft: Draft
    marks: dict[str, float]
    sentence: str = ""


def understand_email(text: str, around: Surroundings, subject: str = "", weights: Weights | None = None) -> Request:
    """The events that a longer text proposes; one of a single sentence is read as a request.

    ``subject`` may name them. Nothing is proposed by a sentence that only tells, or asks. Never raises.
    """
    chosen = weights or shipped()
    if not subject and len(sentences(text)) < 2:
        return understand(text, around, chosen)
    found = [(_sureness(each, chosen), each) for each in proposals(text, around, subject, chosen)]
    least = chosen["act"]["email"]
    requests = [
        (sure, to_request(each.reader, Reading("create", each.draft))) for sure, each in found if sure >= _PERHAPS
    ]
    sure_ones = [request for sure, request in requests if sure >= least and not request.question]
    if len(sure_ones) == len(requests):
        if not requests:
            return Request(text=text)
        wishes = [wish for each in sure_ones for wish in each.events]
        return Request("create", events=wishes, because=sure_ones[0].because, text=text)
    plain = [each for _, each in sorted(requests, key=lambda pair: -pair[0]) if not each.question]
    request = offer(plain[:MOST_OFFERS], around) if plain else requests[0][1]
    request.text = text
    return request


def _sureness(proposal: Proposal, weights: Weights) -> float:
    """How surely a sentence proposes what it was read as; one that asks for it in so many words is a request."""
    reader = proposal.reader
    sure = chance(score(weights["email"], proposal.marks))
    if not {"please", "book", "add", "schedule", "reserve"} & set(reader.chart.text.lows):
        return sure
    alone = TextReader(proposal.sentence, reader.around, weights, reader.day)
    first = alone.readings()[0]
    is_request = first.intent == "create" and first.sure >= weights["act"]["least"]
    same = isinstance(first.candidate, Draft) and first.candidate.when.key == proposal.draft.when.key
    return max(sure, first.sure) if is_request and same else sure


def sentences(text: str) -> list[str]:
    """The sentences of an email, without its greeting; lines of a list are one each."""
    body = _GREETING.sub("", text, count=1).strip()
    return [" ".join(part.split()) for part in _SENTENCE.split(body) if part and part.strip()][:_MOST_SENTENCES]


def readers(text: str, around: Surroundings, subject: str, weights: Weights) -> list[TextReader]:
    """The sentences that name a day or a time, each behind the subject, with the day that was named before."""
    head = _REPLY.sub("", subject).strip()
    found: list[TextReader] = []
    day: date | None = None
    for n, part in enumerate(sentences(text)):
        reader = TextReader(f"{head}: {part}" if head else part, around, weights, day, n)
        chart = reader.chart
        if not (chart.days or chart.stretches or any(each.form != "bare" for each in chart.clocks)):
            continue
        named = [each.value for each in chart.days if not each.value.is_period]
        day = named[0].first if named else day
        found.append(reader)
    return found


def proposals(text: str, around: Surroundings, subject: str, weights: Weights) -> list[Proposal]:
    """The likeliest event of each sentence that names a day or a time."""
    count, head = len(sentences(text)), len(_REPLY.sub("", subject).strip())
    found: list[Proposal] = []
    for reader in readers(text, around, subject, weights):
        drafts = reader.drafts()
        if not drafts:
            continue
        raw = [score(weights["draft"], each.marks) for each in drafts]
        likely = shares(raw)
        best = max(range(len(drafts)), key=lambda k: likely[k])
        marks = _marks(reader, drafts[best], likely[best], raw[best], head, count)
        found.append(Proposal(reader, drafts[best], marks, reader.text[head + 2 if head else 0 :]))
    timed = sum(bool(each.reader.chart.clocks) for each in found)
    for n, each in enumerate(found):
        each.marks["one of several"] = float(len(found) > 1)
        each.marks["the first of them"] = float(n == 0)
        each.marks["no time, others have"] = float(not each.reader.chart.clocks and timed > 0)
    return found


def _marks(reader: TextReader, draft: Draft, likely: float, raw: float, head: int, count: int) -> dict[str, float]:
    spans, title = reader.spans, draft.title
    marks = {name: value for name, value in reader.text_marks.items() if not name.startswith(("word ", "pair "))}
    marks |= {f"draft {name}": max(-8.0, min(value, 4.0)) for name, value in draft.marks.items() if value}
    marks |= {f"when {name}": value for name, value in draft.when.marks.items() if value}
    marks["always"] = 1.0
    marks["likely"] = max(likely, -6.0)
    marks["raw"] = max(-30.0, min(raw, 30.0)) / 10
    marks["first sentence"] = float(reader.place == 0)
    marks["last sentence"] = float(reader.place == count - 1)
    marks["whole days"] = float(draft.when.is_whole)
    if title is not None and head:
        end = spans.chart.text.tokens[title.end - 1].end
        marks["title is the subject"] = float(end <= head)
        marks["title is all of the subject"] = float(end == head and title.begin == 0)
    for n, intent in enumerate(("create", "change", "delete", "query", "free", "none")):
        marks[f"intent {intent}"] = max(reader.intents[n], -7.0)
    return marks
