"""Numbers and yes/no as texts."""

from __future__ import annotations

import re
from decimal import Decimal

from whenvoca.values.blanks import plain_signs, squeeze_blanks
from whenvoca.values.dates import Shaped

POINT, COMMA = "decimal point", "decimal comma"

_PLAIN = re.compile(r"[+-]?\d+\Z")
_FORMS = {
    POINT: re.compile(r"[+-]?(?:\d{1,3}(?:[, ']\d{3})+|\d+)(?:\.\d+)?\Z"),
    COMMA: re.compile(r"[+-]?(?:\d{1,3}(?:[. ']\d{3})+|\d+)(?:,\d+)?\Z"),
}
_YES = {"yes", "y", "true", "x", "✓", "✔", "☑"}
_NO = {"no", "n", "false", "☐", "✗"}


def shape_number(text: str) -> Shaped | None:
    """The numbers that a text could mean, or None. "1,234" fits both decimal signs, "2.5" only one of them.

    Digits with a nought in front ("007") are a name, not a number.
    """
    text = plain_signs(text)
    digits = text.lstrip("+-")
    if not digits or not digits[0].isdigit() or (len(digits) > 1 and digits[0] == "0" and digits[1].isdigit()):
        return None
    if _PLAIN.match(text):
        return Shaped({"": int(text)}) if len(digits) <= 15 and text[0] != "+" else None
    fits = {}
    for form, pattern in _FORMS.items():
        if pattern.match(text):
            bare = re.sub(r"[, ']" if form == POINT else r"[. ']", "", text).replace(",", ".")
            fits[form] = tidy_number(Decimal(bare))
    return Shaped(fits) if fits else None


def tidy_number(value: Decimal | float | int) -> int | Decimal:
    """The number as we keep it: whole ones as int, others as Decimal without trailing noughts."""
    if isinstance(value, int):
        return int(value)
    exact = value if isinstance(value, Decimal) else Decimal(repr(value))
    if not exact.is_finite():
        return Decimal(0)
    return int(exact) if exact == exact.to_integral_value() else exact.normalize()


def show_number(value: int | Decimal) -> str:
    """The number in plain digits: 12, 2.5."""
    return str(value) if isinstance(value, int) else f"{value:f}"


def shape_yes_no(text: str) -> Shaped | None:
    """Yes or no, as people tick things, or None."""
    word = squeeze_blanks(text).lower()
    if word in _YES:
        return Shaped({"": True})
    return Shaped({"": False}) if word in _NO else None
