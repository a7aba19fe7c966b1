"""Numbers, yes/no and address lists as texts."""

from __future__ import annotations

import re
from collections.abc import Container
from decimal import Decimal
from functools import lru_cache

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
_ATOM, _LABEL = r"[\w!#$%&'*+/=?^`{|}~-]+", r"[A-Za-z0-9](?:[A-Za-z0-9-]*[A-Za-z0-9])?"
_ADDRESS = re.compile(rf"(?=.{{1,64}}@){_ATOM}(?:\.{_ATOM})*@(?:{_LABEL}\.)+{_LABEL}\Z", re.ASCII)  # RFC 5321 4.1.2
_NAMED = re.compile(r'(?:"[^"]*"\s*|[^<>",;\n]*)<[^<>]*>|[^,;\n]+')


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


def split_addresses(text: str) -> list[str]:
    """The pieces of a list parted by commas, semicolons or line breaks; names in <…> form reduced to the address."""
    return list(_split_addresses(text))


@lru_cache(maxsize=4096)
def _split_addresses(text: str) -> tuple[str, ...]:
    pieces = []
    for piece in _NAMED.findall(text):
        bare = squeeze_blanks(piece)
        if "<" in bare:
            from email.utils import parseaddr

            bare = parseaddr(bare)[1] or bare
        bare = bare.removeprefix("mailto:")
        if bare:
            pieces.append(bare)
    return tuple(pieces)


@lru_cache(maxsize=4096)
def is_address(text: str) -> bool:
    """Whether the text is one e-mail address (its form only)."""
    return bool(_ADDRESS.match(text)) and len(text) <= 254


def shape_addresses(text: str, names: Container[str] = ()) -> Shaped | None:
    """A list of e-mail addresses, or None if no @ is in the text. ``names`` may stand in it too, in lower case."""
    pieces = split_addresses(text) if "@" in text or names else []
    if "@" not in text:
        return Shaped({"": pieces}) if pieces and all(piece.lower() in names for piece in pieces) else None
    wrong = [piece for piece in pieces if not is_address(piece) and piece.lower() not in names]
    if wrong and len(wrong) == len(pieces) and not any(" " not in piece and "@" in piece for piece in wrong):
        return None
    if wrong:
        return Shaped(fault=f'"{wrong[0]}" is no e-mail address')
    return Shaped({"": pieces})
