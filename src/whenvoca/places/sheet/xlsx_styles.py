"""Cell styles: a date written into a cell without a date format gets one, everything else of its look kept."""

from __future__ import annotations

import re

_BUILT_IN = {"date": 14, "time": 20, "moment": 22, "duration": 46, "number": 0}
_SHOWN_BY = {
    **dict.fromkeys((*range(14, 18), *range(27, 37), *range(50, 59)), "date"),
    22: "moment",
    **dict.fromkeys((*range(18, 22), 45, 47), "time"),
    46: "duration",
}
_XF = re.compile(rb"<(?:\w+:)?xf\b[^>]*?(?:/>|>.*?</(?:\w+:)?xf>)", re.DOTALL)


class Styles:
    """The styles part, and what had to be added to it."""

    def __init__(self, xml: bytes) -> None:
        self._xml = xml
        block = re.search(rb"<((?:\w+:)?)cellXfs\b[^>]*>(.*?)</(?:\w+:)?cellXfs>", xml, re.DOTALL)
        self._span = block.span(2) if block else (0, 0)
        self._formats = [found[0] for found in _XF.finditer(block[2])] if block else []
        self._codes = {
            int(found[1]): found[2]
            for found in re.finditer(rb"<(?:\w+:)?numFmt\b[^>]*numFmtId=\"(\d+)\"[^>]*formatCode=\"([^\"]*)\"", xml)
        }
        self._added: list[bytes] = []
        self._known: dict[tuple[int, str], int] = {}

    def style_of(self, style: int, form: str) -> int:
        """A style like ``style`` that shows a date, time, moment, duration, or a plain number."""
        if not self._formats:
            return style
        if (style, form) not in self._known:
            self._known[style, form] = style if self._shows(style, form) else self._add(style, _BUILT_IN[form])
        return self._known[style, form]

    def _shows(self, style: int, form: str) -> bool:
        shown = self._shown_by(style)
        return form == shown or {form, shown} == {"date", "moment"}

    def _shown_by(self, style: int) -> str:
        """What kind of value a style is for: date, moment, time, duration, or number for any other."""
        if style >= len(self._formats):
            return "number"
        found = re.search(rb'numFmtId="(\d+)"', self._formats[style])
        number = int(found[1]) if found else 0
        if number not in self._codes:
            return _SHOWN_BY.get(number, "number")
        code = re.sub(rb'"[^"]*"|&quot;.*?&quot;|\\.', b"", self._codes[number]).lower()
        if re.search(rb"\[(h+|m+|s+)\]", code):
            return "duration"
        code = re.sub(rb"\[[^\]]*\]", b"", code)
        has_day, has_hour = bool(re.search(rb"[yd]", code)), bool(re.search(rb"[hs]", code))
        return "moment" if has_day and has_hour else "date" if has_day else "time" if has_hour else "number"

    def _add(self, style: int, number: int) -> int:
        base = self._formats[style] if style < len(self._formats) else self._formats[0]
        fresh = re.sub(rb'\s+(?:numFmtId|applyNumberFormat)="[^"]*"', b"", base)
        head = re.match(rb"<(?:\w+:)?xf", fresh)
        assert head is not None
        self._added.append(head[0] + b' numFmtId="%d" applyNumberFormat="1"' % number + fresh[head.end() :])
        return len(self._formats) + len(self._added) - 1

    def changed_xml(self) -> bytes | None:
        """The part with the added formats, None if there are none."""
        if not self._added:
            return None
        total = len(self._formats) + len(self._added)
        head = re.sub(rb'(<(?:\w+:)?cellXfs\b[^>]*\bcount=")\d+(")', rb"\g<1>%d\2" % total, self._xml[: self._span[0]])
        return head + self._xml[slice(*self._span)] + b"".join(self._added) + self._xml[self._span[1] :]
