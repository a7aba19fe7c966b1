"""English for Unicode CLDR patterns, with the weeks of ISO 8601 instead of those of the United States."""

from __future__ import annotations

from babel import Locale


class _English(Locale):
    @property
    def first_week_day(self) -> int:
        return 0  # Monday

    @property
    def min_week_days(self) -> int:
        return 4  # the first week is the one with the first Thursday


ENGLISH = _English("en")
