"""Questions about how much time something took: "how many hours was the west dome booked last month?", "who had the
most time in March?".

They are told by how they begin, and answered by adding up, with the events behind the figure.
"""

from __future__ import annotations

from collections import Counter
from datetime import UTC, date, datetime, time, timedelta

from dateutil.relativedelta import relativedelta

from whenvoca.speech.candidates.target_sets import Occurrence, stem
from whenvoca.speech.judging.readings import TextReader
from whenvoca.speech.periods import period_of
from whenvoca.speech.request import Request, Surroundings

_HOW_MUCH = (["how", "many", "hours"], ["how", "much", "time"], ["how", "long", "was"], ["how", "long", "were"])
_WHO = (["who", "had"], ["who", "has"], ["who", "got"], ["who", "worked"], ["who", "spent"], ["who", "was"])
_MOST = frozenset("most busiest".split())
_OF_TIME = frozenset("time hours busiest".split())
_EMPTY = frozenset(
    "was were is are did do does has had have been be booked used use taken took take spent spend worked work went go "
    "reserved scheduled in on at for with of the a an our my we i it all altogether total during over there by to and "
    "or how many much hours time long ? ! .".split()
)
_YET = frozenset("until till til left remain remaining away before after from".split())
_ME = frozenset("i me my".split())
_DAY = timedelta(days=1)
_DAYS_OF_A_WEEK = 7
_MOST_WORDS = 30  # of a question; longer texts ask for more than a figure


def totals_request(reader: TextReader) -> Request | None:
    """The answer to such a question; None for any other text."""
    lows = reader.chart.text.lows
    if len(lows) > _MOST_WORDS:
        return None
    asks_who = any(lows[:2] == each for each in _WHO) and bool(_MOST & set(lows)) and bool(_OF_TIME & set(lows))
    if _YET & set(lows) or not (asks_who or any(lows[:3] == each for each in _HOW_MUCH)):
        return None
    period, taken = _period(reader)
    if period is None:
        return None
    around = reader.around
    low, high = (datetime.combine(day, time(), around.zone) for day in period)
    walls = (each.replace(tzinfo=None) for each in (low, high))
    found = [each for each in reader.mentions.between(*walls) if _counts(each)]
    if not asks_who:
        found = _meant(reader, found, taken)
    spans = [(each, _seconds(each, low, high, around)) for each in found]
    shares: Counter[str] = Counter()
    for each, seconds in spans if asks_who else ():
        for person in each.event.attendees:
            if person.answer.upper() != "DECLINED":
                shares[_name(person.address, around)] += seconds
    return Request(
        "query",
        targets=[each.target for each, seconds in spans if seconds],
        period=(low, high),
        count=sum(1 for _, seconds in spans if seconds),
        seconds=sum(seconds for _, seconds in spans),
        shares=shares.most_common() if asks_who else None,
    )


def _period(reader: TextReader) -> tuple[tuple[date, date] | None, set[int]]:
    """The days that are asked about, by the longest words that name some, and these words; this month without any."""
    tokens, around = reader.chart.text.lows, reader.around
    wall = around.now.astimezone(around.zone).replace(tzinfo=None)
    for length in range(min(5, len(tokens)), 0, -1):
        for begin in range(len(tokens) - length, 1, -1):
            words = range(begin, begin + length)
            if (found := period_of(" ".join(tokens[begin : begin + length]), wall)) is not None:
                return _past(tokens, begin, found, wall.date()), set(words)
    if reader.chart.days or reader.chart.clocks:
        return None, set()
    first = wall.date().replace(day=1)
    return (first, (first + 31 * _DAY).replace(day=1)), set()


def _past(tokens: list[str], begin: int, found: tuple[date, date], today: date) -> tuple[date, date]:
    """The same a year earlier where it is asked what was, and a month is named that is to come."""
    is_past = bool({"was", "were", "did", "had", "spent", "worked", "got"} & set(tokens[:begin]))
    if is_past and found[0] > today and (found[1] - found[0]).days > _DAYS_OF_A_WEEK:
        back = relativedelta(years=1)
        return found[0] - back, found[1] - back
    return found


def _counts(each: Occurrence) -> bool:
    return each.event.takes_time and not each.event.is_whole_day


def _meant(reader: TextReader, found: list[Occurrence], taken: set[int]) -> list[Occurrence]:
    """Those that the rest of the words speak of: by people, else by their title, location or calendar."""
    around, lows = reader.around, reader.chart.text.lows
    people = [around.addresses.get(each.value.lower(), each.value).lower() for each in reader.chart.people]
    said = {at for each in reader.chart.people for at in range(each.begin, each.end)}
    if not people and around.speaker and _ME & set(lows):
        people = [around.speaker.lower()]
    words = {stem(low) for at, low in enumerate(lows) if at not in taken and at not in said and low not in _EMPTY}
    if people:
        found = [each for each in found if set(people) <= {a.address.lower() for a in each.event.attendees}]
    return [each for each in found if words <= _words_of(each)]


def _words_of(each: Occurrence) -> set[str]:
    text = f"{each.event.title} {each.event.location} {each.target.calendar} {' '.join(each.event.categories)}"
    return {stem(word.strip(".,;:()").lower()) for word in text.replace("-", " ").split()}


def _seconds(each: Occurrence, low: datetime, high: datetime, around: Surroundings) -> int:
    start, end = (moment.astimezone(UTC) for moment in each.event.span(around.zone))
    return max(0, round((min(end, high) - max(start, low)).total_seconds()))


def _name(address: str, around: Surroundings) -> str:
    names = {mail.lower(): name for name, mail in around.addresses.items()}
    return names.get(address.lower(), address)
