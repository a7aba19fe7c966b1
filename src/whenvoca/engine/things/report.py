"""A report as workflows see it: its figures, its lines, and the file that it was written into."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from whenvoca.language.types import NUMBER, TEXT, Type, list_of, thing
from whenvoca.reports.hours import MEASURES

_LINE = thing("line of a report", {"table": TEXT, "label": TEXT, "with": TEXT, **dict.fromkeys(MEASURES, NUMBER)})


def report_type(place: Any = None) -> Type:
    """The type of a report."""
    figures = {name: NUMBER for name in MEASURES if name != "share"}
    return thing("report", {**figures, "rows": list_of(_LINE), "file": TEXT})


class LineThing:
    """A line of one of a report's tables."""

    def __init__(self, fields: Mapping[str, Any]) -> None:
        self._fields = fields

    @property
    def key(self) -> str:
        """What tells it from the others."""
        return f"{self._fields['table']} {self._fields['label']} {self._fields['with']}"

    def where_is(self, word: str) -> str:
        """Which line."""
        return f"the line {self._fields['label']} of the report"

    def value_of(self, word: str) -> Any:
        """The field's value, None where it is not known or was not asked. Raises KeyError for any other name."""
        return self._fields.get(word) if word in _LINE.fields else self._fields[word]


class ReportThing:
    """A report: ``figures`` by their measures, ``rows``, and the text of its file."""

    def __init__(self, file: str, data: bytes, figures: Mapping[str, Any], rows: Sequence[Mapping[str, Any]]) -> None:
        self.file, self.data = file, data
        self._fields = {**figures, "rows": [LineThing(each) for each in rows], "file": file}

    @property
    def key(self) -> str:
        """Its file."""
        return self.file

    def where_is(self, word: str) -> str:
        """Which report."""
        return f"the report {self.file}"

    def value_of(self, word: str) -> Any:
        """The field's value, None where it is not known. Raises KeyError for a name that is none of its fields."""
        return self._fields[word]
