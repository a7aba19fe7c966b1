"""Candidates for titles and places: every stretch of words that may be one, with what the judge looks at.

What is looked at is of the left edge, of the right edge, or of the inside: so each stretch is scored by three sums.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from functools import cached_property

from msgspec import Struct

from whenvoca.speech.chart.chart import Chart

MOST_WORDS = 13
_OPENING, _CLOSING = {"(": ")", "[": "]"}, {")": "(", "]": "["}
_QUOTES = frozenset("\"'“”‘’„")
_PUNCTUATION = frozenset(".,;:!?-|/+&@()[]\"'\n<>*=#~_…·•👊")
_VERBS = frozenset(
    """
    add book put schedule create make set plan arrange enter note block reserve stick bang pop pencil squeeze slot
    record log insert diarise jot write hold get organise organize remind mark register inscribe fix save need want
    have like going
""".split()
)
_COURTESY = frozenset(
    "please thanks thank ta cheers hi hello hey ok okay kindly pray um uh er so well right yes yeah no sorry just oh "
    "also and grand sound deadly lol".split()
)
_LABELS = frozenset("title subject event what name re entry appointment meeting new topic summary".split())
_PLACE_LABELS = frozenset("where place location loc room venue".split())
_PLACE_WORDS = frozenset(
    "room hall office studio gym shop centre center street st house garden library café cafe lounge "
    "lab workshop church "
    "pub school loft kitchen reception clinic theatre dome field park yard barn vestry lane road online zoom teams "
    "suite floor bay dock pier club hospital station hotel restaurant bar chapel court pool".split()
)


class Span(Struct, frozen=True):
    """A stretch of tokens, from ``begin`` to ``end``."""

    begin: int
    end: int


class SpanFinder(Struct, dict=True):
    """The stretches of one text. ``places`` are the places of the agenda, in lower case."""

    chart: Chart
    places: Collection[str]
    titles: Collection[str]

    @cached_property
    def timed(self) -> list[bool]:
        """Which tokens a piece of time takes."""
        chart = self.chart
        found = [False] * len(chart.text.tokens)
        clocks = [each for each in chart.clocks if each.form != "bare"]
        for each in (
            *chart.days,
            *clocks,
            *chart.stretches,
            *chart.lengths,
            *chart.repetitions,
            *chart.limits,
            *chart.reminders,
            *chart.parts,
            *chart.relatives,
            *chart.zones,
        ):
            for i in range(each.begin, each.end):
                found[i] = True
        return found

    @cached_property
    def _named(self) -> set[int]:
        return {each.begin for each in self.chart.people}

    @cached_property
    def kinds(self) -> list[str]:
        """What sort of word each token is."""
        found = []
        for i, token in enumerate(self.chart.text.tokens):
            low = token.low
            if self.timed[i]:
                kind = "TIME"
            elif i in self._named:
                kind = "PERSON"
            elif low in _PUNCTUATION or not (low[0].isalnum()):
                kind = low if low in _PUNCTUATION else "SIGN"
            elif low[0].isdigit():
                kind = "NUMBER"
            elif low in _VERBS:
                kind = "VERB"
            elif low in _COURTESY:
                kind = "COURTESY"
            elif low in _FUNCTION:
                kind = low
            elif low in _PLACE_WORDS:
                kind = "PLACE"
            else:
                kind = "Word" if token.text[0].isupper() else "word"
            found.append(kind)
        return found

    # --- where a stretch may begin and end

    @cached_property
    def _joints(self) -> list[bool]:
        """Whether a stretch may begin or end before each token."""
        text = self.chart.text
        found = [True] * (len(text.tokens) + 1)
        for i in range(1, len(text.tokens)):
            if text.is_glued(i):
                before, here = text.tokens[i - 1].text, text.tokens[i].text
                is_sign = before[0] in ',;:.!?()[]|\n"“”' or here[0] in ',;:.!?()[]|\n"“”' or "/" in (before, here)
                is_sign = is_sign or (before in "'’‘" and self._is_edge(i - 1)) or (here in "'’‘" and self._is_edge(i))
                is_number = (
                    here in ",."
                    and before[-1].isdigit()
                    and text.is_glued(i + 1)
                    and text.tokens[i + 1].text[0].isdigit()
                )
                is_number |= (
                    before in ",."
                    and i > 1
                    and text.is_glued(i - 1)
                    and here[0].isdigit()
                    and text.tokens[i - 2].text[-1].isdigit()
                )
                found[i] = is_sign and not is_number
        return found

    def _is_edge(self, i: int) -> bool:
        """Whether a quote mark stands at the edge of a word."""
        text = self.chart.text
        return not (text.is_glued(i) and text.is_glued(i + 1))

    @cached_property
    def spans(self) -> list[Span]:
        """All stretches."""
        kinds, joints = self.kinds, self._joints
        tokens = self.chart.text.tokens
        found = []
        for begin in range(len(kinds)):
            if not joints[begin] or not _may_begin(kinds[begin], tokens[begin].text):
                continue
            depth: list[str] = []
            is_whole = True
            for end in range(begin + 1, min(len(kinds), begin + MOST_WORDS) + 1):
                sign = tokens[end - 1].text
                if sign == "\n":
                    break
                if sign in _OPENING:
                    depth.append(sign)
                elif sign in _CLOSING:
                    if not depth:
                        is_whole = False
                        break
                    depth.pop()
                if is_whole and not depth and joints[end] and _may_end(kinds[end - 1], sign):
                    found.append(Span(begin, end))
        return found

    def is_known(self, span: Span) -> bool:
        """Whether it is the whole title of an event that stands."""
        return " ".join(self.chart.text.lows[span.begin : span.end]) in self.titles

    # --- what the judge looks at

    def left(self, begin: int) -> list[str]:
        """Of the left edge."""
        kinds, lows = self.kinds, self.chart.text.lows
        before = kinds[begin - 1] if begin else "^"
        before2 = kinds[begin - 2] if begin > 1 else "^"
        here = kinds[begin]
        marks = [f"l-1 {before}", f"l0 {here}", f"l {before} {here}", f"l-2 {before2} {before}"]
        if before in ("VERB", "COURTESY", "word", "Word", "PLACE"):
            marks.append(f"l-1w {lows[begin - 1]}")
        if here in ("VERB", "COURTESY"):
            marks.append(f"l0w {lows[begin]}")
        if before == ":" and begin > 1:
            label = lows[begin - 2]
            marks.append(
                "l label"
                if label in _LABELS
                else "l place label"
                if label in _PLACE_LABELS
                else f"l other label {kinds[begin - 2] == 'TIME'}"
            )
        if self.chart.text.tokens[begin].text[0].isupper():
            marks.append("l capital, first" if begin == 0 or before in (".", "\n", "!", "?", ":") else "l capital")
        if begin == 0:
            marks.append("l at begin")
        elif all(
            self.kinds[i]
            in (
                "VERB",
                "COURTESY",
                "a",
                "an",
                "the",
                "in",
                "me",
                "us",
                "you",
                "could",
                "can",
                "to",
                ",",
                ":",
                "for",
                "up",
            )
            for i in range(begin)
        ):
            marks.append("l after request")
        return marks

    def right(self, end: int) -> list[str]:
        """Of the right edge."""
        kinds, lows = self.kinds, self.chart.text.lows
        behind = kinds[end] if end < len(kinds) else "$"
        behind2 = kinds[end + 1] if end + 1 < len(kinds) else "$"
        last = kinds[end - 1]
        marks = [f"r1 {behind}", f"r0 {last}", f"r {last} {behind}", f"r2 {behind} {behind2}"]
        if behind in ("VERB", "COURTESY", "word", "Word", "PLACE"):
            marks.append(f"r1w {lows[end]}")
        if last in ("VERB", "COURTESY"):
            marks.append(f"r0w {lows[end - 1]}")
        return marks

    def inside(self, span: Span) -> dict[str, float]:
        """Of the inside, and of both edges together."""
        begin, end = span.begin, span.end
        kinds, lows = self.kinds[begin:end], self.chart.text.lows[begin:end]
        size = end - begin
        marks: dict[str, float] = {f"size {min(size, 9)}": 1.0}
        for kind in (
            "TIME",
            "PERSON",
            "NUMBER",
            "VERB",
            "COURTESY",
            ",",
            ".",
            ";",
            ":",
            "-",
            "!",
            "?",
            "(",
            "/",
            "and",
            "with",
            "at",
            "in",
            "for",
            "to",
            "on",
            "|",
            "the",
            "that",
            "i",
            "is",
            "PLACE",
            "you",
            "of",
        ):
            count = kinds.count(kind)
            if count:
                marks[f"has {kind}"] = float(min(count, 3))
        tokens = self.chart.text.tokens
        words = [token.text for token in tokens[begin:end] if token.is_word]
        if words and all(word[0].isupper() for word in words):
            marks["all capitals"] = 1.0
        if not words:
            marks["no word"] = 1.0
        before = tokens[begin - 1].text if begin else ""
        behind = tokens[end].text if end < len(tokens) else ""
        if before in _QUOTES and behind in _QUOTES and before and behind:
            marks["quoted"] = 1.0
        elif any(token.text in '"“”' for token in tokens[begin:end]):
            marks["has quote"] = 1.0
        if before == "(" and behind == ")":
            marks["bracketed"] = 1.0
        said = " ".join(lows)
        if said in self.places:
            marks["a known place"] = 1.0
        if said in self.titles:
            marks["a known title"] = 1.0
        if lows[0] in ("room", "studio", "hall", "dome", "lane", "bay", "workshop", "pontoon") and size == 2:
            marks["place and number"] = 1.0
        left = self.kinds[begin - 1] if begin else "^"
        right = self.kinds[end] if end < len(self.kinds) else "$"
        marks[f"between {_wide(left)} {_wide(right)}"] = 1.0
        if left in ("at", "in", "@") or (
            left in ("the", "a", "our", "my") and begin > 1 and self.kinds[begin - 2] in ("at", "in", "from")
        ):
            marks[f"after in, {_wide(right)}"] = 1.0
            if kinds[0] == "Word":
                marks["after in, capital"] = 1.0
        return marks


_FUNCTION = frozenset(
    """
    a an the at in on to for of with and or from by my our your his her their this that it i we you me us he she they
    is are be was will would could can should has had do does not but if as since because which who when where what
    how there about up out off before after until re via per into than then too so all both into over under between
    it's that's i'm i'd i've we're we've let's there's don't can't shall may must goes comes
""".split()
)


def _may_begin(kind: str, text: str) -> bool:
    return text[0].isalnum() or text in ("(", "[", "{", "<", "%", "*", '"', "“", "'", "‘", "#", "+", "£", "€", "$")


def _may_end(kind: str, text: str) -> bool:
    return text[-1].isalnum() or text in (")", "]", "}", ">", '"', "”", "'", "’", "!", "?", "%", "+", ".", "€", "£")


def _wide(kind: str) -> str:
    if kind in ("TIME", "PERSON", "VERB", "COURTESY", "^", "$", "NUMBER"):
        return kind
    if kind in ("word", "Word", "PLACE"):
        return "word"
    return kind if kind in _PUNCTUATION else "small"


def scored(finder: SpanFinder, weights: Mapping[str, float]) -> Iterator[tuple[float, Span]]:
    """Every stretch with its score."""
    count = len(finder.kinds)
    left = [sum(weights.get(mark, 0.0) for mark in finder.left(i)) for i in range(count)]
    right = [0.0] + [sum(weights.get(mark, 0.0) for mark in finder.right(i)) for i in range(1, count + 1)]
    for span in finder.spans:
        inner = sum(weights.get(mark, 0.0) * value for mark, value in finder.inside(span).items())
        yield left[span.begin] + right[span.end] + inner, span
