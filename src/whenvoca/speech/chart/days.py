"""Days in a text: weekdays, dates, days seen from today, weeks and months, and stretches of them."""

from __future__ import annotations

import re
from datetime import timedelta

from whenvoca.speech.chart.day_values import (
    FIXED,
    MONTH,
    NTH,
    NUM,
    OWN,
    PART,
    WD,
    WEEKDAYS,
    YEAR,
    DayValues,
    day_number,
    known_day,
    month_span,
)
from whenvoca.speech.chart.piece import DAY, Days, Piece, longest, read_forms
from whenvoca.speech.chart.tokens import Text

_MOST = 40  # days that are joined to stretches


class DayReader(DayValues):
    """Reads days, seen from a moment's own day."""

    def read(self, text: Text) -> list[Piece[Days]]:
        """All days, and stretches of them, that do not lie within a longer one."""
        today = self.today
        on = r"(?:(?:on|for|this|by|from|since|starting(?: on| from)?|beginning(?: on)?|commencing|start|as of) )?"
        the = r"(?:the )?"
        forms = {
            "today": (
                rf"(?:later )?(?:today|this day|this very day){OWN}{PART}",
                lambda m: self._one(today, m["part"]),
            ),
            "tonight": (
                rf"tonight{OWN}|this (?P<p>morning|afternoon|evening|night|lunchtime){OWN}",
                lambda m: self._one(today, m["p"] or "night"),
            ),
            "tomorrow": (rf"tomorrow{OWN}{PART}", lambda m: self._one(today + DAY, m["part"])),
            "after tomorrow": (
                rf"(?:the )?day after tomorrow{PART}|overmorrow(?P<x>)",
                lambda m: self._one(today + 2 * DAY, m["part"]),
            ),
            "yesterday": (rf"yesterday{OWN}|last night", lambda m: self._one(today - DAY)),
            "weekday": (
                (
                    rf"{on}(?P<which>this coming |this |the coming |coming |the |my )?(?P<wd>{WD}){OWN}(?: coming)?{PART}"
                ),
                lambda m: self._one(self._wd(m["wd"]), m["part"]),
            ),
            "weekday this week": (
                rf"{on}(?P<wd>{WD}){OWN} (?:of )?this week{PART}|{on}this week(?: on)? (?P<wd2>{WD}){OWN}",
                lambda m: self._one(self.monday + timedelta(days=WEEKDAYS.index(m["wd"] or m["wd2"])), m["part"]),
            ),
            "next weekday": (
                (
                    rf"{on}{the}(?:next (?P<a>{WD}){OWN}|(?P<b>{WD}){OWN},? (?:of )?next week|next week(?:'s)?,?(?: on)? (?P<c>{WD}){OWN}){PART}"
                ),
                lambda m: self._one(
                    self.monday + timedelta(days=7 + WEEKDAYS.index(m["a"] or m["b"] or m["c"])), m["part"]
                ),
            ),
            "last weekday": (
                rf"last (?P<wd>{WD}){OWN}{PART}",
                lambda m: self._one(self._wd(m["wd"]) - timedelta(days=7)),
            ),
            "week on weekday": (
                (
                    rf"{on}(?:a )?(?:week (?:on |this |from )?(?P<a>{WD})|(?:this )?(?P<b>{WD}) (?:week|in (?:8|7) days|in a week))(?! (?:of|after|before|beginning|commencing)){PART}"
                ),
                lambda m: self._one(self._wd(m["a"] or m["b"]) + timedelta(days=7), m["part"]),
            ),
            "week from tomorrow": (
                r"(?:on )?(?P<d>today|tomorrow) (?P<k>week|fortnight)",
                lambda m: self._one(today + timedelta(days=(m["d"] == "tomorrow") + (7 if m["k"] == "week" else 14))),
            ),
            "weekday of week number": (
                rf"week (?P<n>\d{{1,2}})(?::|,)? (?P<wd>{WD})|(?P<wd2>{WD})(?:,)? (?:of )?week (?P<n2>\d{{1,2}})",
                lambda m: self._in_week(m),
            ),
            "week next": (r"(?:of )?(?:the )?week next", lambda m: self._week(1)),
            "end of week": (
                r"(?:by |at |on )?(?:the )?end of (?P<n>next |this |the )week",
                lambda m: self._one(self.monday + timedelta(days=4 + 7 * (m["n"] == "next "))),
            ),
            "fortnight on weekday": (
                (
                    rf"{on}(?:a )?(?:fortnight (?:on |this |from )?(?P<a>{WD})|(?P<b>{WD}) (?:fortnight|in (?:15|14) days|in (?:2 weeks|a fortnight))){PART}"
                ),
                lambda m: self._one(self._wd(m["a"] or m["b"]) + timedelta(days=14), m["part"]),
            ),
            "weekday after next": (
                rf"{on}{the}(?P<wd>{WD}) after next{PART}",
                lambda m: self._one(self._after_next(self._wd(m["wd"])), m["part"]),
            ),
            "weekday in week after next": (
                (
                    rf"{on}{the}(?P<a>{WD}) (?:of |in )?{the}week after next{PART}|{the}week after next,?(?: on)? (?P<b>{WD})"
                ),
                lambda m: self._one(self.monday + timedelta(days=14 + WEEKDAYS.index(m["a"] or m["b"])), m["part"]),
            ),
            "weekday number": (
                (
                    rf"{on}{the}(?P<wd>{WD})(?:,)?(?: the)? (?P<n>{NTH}|{NUM})(?![:.h/]\d|\d|[ap]m| [ap]m| o'clock){PART}"
                ),
                self._weekday_number,
            ),
            "date": (
                (
                    rf"{on}(?:(?:the )?(?P<wd>{WD})(?:,| -)? )?{the}(?P<n>{NTH}|{NUM})\.?(?: ?(?:of|in|-) ?| ?)(?P<m>{MONTH})\.?{YEAR}{PART}"
                ),
                self._weekday_date,
            ),
            "month date": (
                (
                    rf"{on}(?:(?:the )?(?P<wd>{WD})(?:,| -)? )?(?P<m>{MONTH})\.?,? ?{the}(?P<n>{NTH}|{NUM})(?!:|\.\d| ?[ap]\.?m| ?- ?\d)(?:(?:,)? (?P<year>20\d\d)|'(?P<short>\d\d))?{PART}"
                ),
                self._weekday_date,
            ),
            "numeric": (
                (
                    rf"{on}(?:(?P<wd>{WD}),? )?(?P<a>[0-3]?\d)(?:/|\.|-)(?P<b>[0-3]?\d)(?:(?:/|\.|-)(?P<y>20\d\d|\d\d)|\.)?(?![\d/]){PART}"
                ),
                lambda m: (
                    self._numeric(m)
                    if "/" in m[0] or m["y"] or m[0].endswith(".") or re.search(r"\d-0\d$", m[0])
                    else None
                ),
            ),
            "iso": (
                r"(?:(?:on|for) )?(?P<y>20\d\d)-(?P<m>\d\d)-(?P<d>\d\d)",
                lambda m: self._one(known_day(int(m["y"]), int(m["m"]), int(m["d"]))),
            ),
            "the nth": (
                (
                    rf"(?:(?:on|for|by|from|of|day) )?(?:the |day )?(?P<n>{NTH}){PART}(?! (?:of|{WD}|{MONTH}|week|half|floor|year|visit|opinion|aid|class|hand|1(?![0-9])|ones))"
                ),
                lambda m: self._one(self._number(day_number(m["n"])), m["part"]),
            ),
            "nth of this month": (
                rf"(?:on )?the (?P<n>{NTH}|{NUM}) (?:of )?(?P<w>this|next) month",
                lambda m: self._in_month(m),
            ),
            "day number": (
                (
                    r"(?:on |for |by )(?:the |day )?(?P<n>(?:20|30) [1-9]|[0-3]?\d)(?![:.h/\d]| ?(?:am|pm|o'clock|minutes|hour|hours|days?|weeks?|people|past|to|-|of|%))|day (?P<n2>[0-3]?\d)"
                ),
                lambda m: self._one(self._number(day_number(m["n"] or m["n2"]))),
            ),
            "in days": (
                (
                    rf"(?:in |within )?(?P<k>\d+|a couple of|couple of|an?|few) (?P<u>days?|weeks?|fortnights?|months?)(?:'s)?(?: time)?(?: (?:from|after|on)?\s?(?P<base>on {WD}|{WD}|today|tomorrow|now))?{PART}(?<! )"
                ),
                lambda m: self._in(m) if m[0].startswith(("in ", "within ")) or m["base"] or " time" in m[0] else None,
            ),
            "working days": (
                r"in (?P<k>\d{1,3}) (?:business|working|work) days?(?:'? time)?",
                lambda m: self._working_days(int(m["k"])),
            ),
            "day after": (rf"(?:the )?day after (?P<wd>{WD})", lambda m: self._one(self._wd(m["wd"]) + DAY)),
            "next day": (
                r"(?:on )?the (?:next|following) day|the next (?P<p>morning|afternoon|evening)",
                lambda m: Days(today + DAY, today + DAY, part=m["p"] or ""),
            ),
            "weekday of month": (
                (
                    rf"{on}{the}(?P<nth>last|1st|2nd|3rd|4th|5th) (?P<wd>{WD}|working day|weekday|workday|business day|weekend|day|night)(?: (?:of|in) (?:the )?(?P<m>{MONTH}|next month|this month|month))"
                ),
                self._weekday_of_month,
            ),
            "end of month": (
                r"(?:the )?end of (?:the |this )?month|month end|(?:the )?end of next (?P<n>month)",
                lambda m: self._last_of_month(bool(m["n"])),
            ),
            "fixed": (rf"(?:on )?(?P<f>{'|'.join(FIXED)})", lambda m: self._one(self._month_day(*FIXED[m["f"]], None))),
            "easter": (
                r"(?P<d>good friday|easter (?:sunday|monday)|easter)",
                lambda m: self._one(self._easter(m["d"])),
            ),
            # stretches
            "numbers": (
                (
                    rf"(?<![:.\d])(?:on |from )?(?:the )?(?:{WD} )?(?P<a>{NTH}|{NUM})(?: ?(?:-|/|to|until|and) ?)(?:the )?(?:{WD} )?(?P<b>{NTH}|{NUM})\.?(?: ?of ?| ?)(?P<m>{MONTH}){YEAR}"
                ),
                self._numbers,
            ),
            "month numbers": (
                (
                    rf"(?:from )?(?P<m>{MONTH}) (?:the )?(?P<a>{NTH}|{NUM})(?: ?(?:-|to|until) ?)(?:the )?(?P<b>{NTH}|{NUM})(?! ?(?::|[ap]m)){YEAR}"
                ),
                self._month_numbers,
            ),
            "nth numbers": (
                (
                    rf"(?:from )?(?:the )?(?:{WD} )?(?:the )?(?P<a>{NTH})(?: ?(?:-|to|until) ?)(?:{WD} )?(?:the )?(?P<b>{NTH})"
                ),
                self._bare_numbers,
            ),
            "this week": (
                (
                    r"(?:the )?(?:rest of |remainder of )?(?:this|the) week(?:'s)?(?! (?:after|of|before|beginning|commencing))|(?:the )?rest of the week"
                ),
                lambda m: self._rest_of_week(m),
            ),
            "next week": (r"(?:the )?(?:whole of |all of |all )?next week(?:'s)?", lambda m: self._week(1)),
            "week after next": (r"(?:the )?week after next", lambda m: self._week(2)),
            "last week": (r"last week(?:'s)?", lambda m: self._week(-1)),
            "weekend": (
                r"(?:over |at |on )?(?:the |this |this coming |coming )?weekend(?:'s)?",
                lambda m: self._weekend(0),
            ),
            "next weekend": (
                r"(?:over |at |on )?next weekend(?:'s)?|weekend after(?: next)?",
                lambda m: self._weekend(1),
            ),
            "this month": (
                r"this month(?:'s)?|the rest of (?:the|this) month",
                lambda m: (
                    self._months_ahead(0)
                    if m[0].startswith("this")
                    else Days(today, month_span(today.year, today.month)[1], is_period=True)
                ),
            ),
            "next month": (r"next month(?:'s)?", lambda m: self._months_ahead(1)),
            "month": (
                (
                    rf"(?:in |of |for |during )?(?P<third>early |mid-? ?|late |(?:the )?(?:middle|end|start|beginning) of )?(?P<m>{MONTH}){OWN}{YEAR}"
                ),
                lambda m: (
                    self._month(m)
                    if m["m"] not in ("may", "march")
                    or m["third"]
                    or m["year"]
                    or m[0].split()[0] in ("in", "of", "during")
                    else None
                ),
            ),
            "week of": (
                (
                    rf"(?:the )?week (?:of|beginning|commencing|starting|from|with)(?: the)?(?: monday)?,? (?P<n>{NTH}|{NUM})(?:(?: of)? (?P<m>{MONTH}))?"
                ),
                self._week_of,
            ),
            "week number": (
                r"(?<!next )(?<!this )week (?P<n>\d{1,2})(?! (?:days|weeks))",
                lambda m: self._week_number(int(m["n"])),
            ),
        }
        found = list(read_forms(text, forms))
        found += self._joined(text, found)
        return longest(found)

    def _joined(self, text: Text, found: list[Piece[Days]]) -> list[Piece[Days]]:
        """Two days with a word between them that makes a stretch of them: friday 8 october to monday 11 october."""
        singles = [each for each in longest(found) if not each.value.is_period and each.value.first == each.value.last][
            :_MOST
        ]
        joined = []
        for one in singles:
            for other in singles:
                between = text.lows[one.end : other.begin]
                if other.begin < one.end or len(between) > 3:
                    continue
                said = " ".join(between)
                if said not in ("-", "to", "until", "->", "up to", "right until", "- until", ", until"):
                    continue
                last = other.value.last
                while last <= one.value.first and other.form in ("weekday", "today", "tomorrow"):
                    last += 7 * DAY
                if last <= one.value.first:
                    continue
                begin = one.begin - (one.begin > 0 and text.lows[one.begin - 1] in ("from", "between"))
                joined.append(
                    Piece(
                        begin,
                        other.end,
                        Days(one.value.first, last, doubt=one.value.doubt or other.value.doubt),
                        "stretch",
                    )
                )
        return joined
