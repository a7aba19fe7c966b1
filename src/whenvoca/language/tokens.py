"""The words of a value: names, numbers, dates, times, texts and signs, each with its spot."""

from __future__ import annotations

import re
from datetime import date, time
from decimal import Decimal
from typing import Any, Literal

from msgspec import Struct

from whenvoca.language.faults import FaultList, Spot
from whenvoca.language.lines import CLOSING_QUOTES, OPENING_QUOTES
from whenvoca.language.slips_in_values import odd_word_slip, sign_slip
from whenvoca.values.numbers import tidy_number

TokenKind = Literal["name", "number", "date", "time", "text", "block", "sign", "end"]

_DATE = re.compile(r"(\d{4})-(\d{2})-(\d{2})(?![\w-])")
_TIME = re.compile(r"(\d{1,2}):(\d{2})(?![\w:])")
_NUMBER = re.compile(r"\d+(?:\.\d+)?(?![\w.])")
_NAME = re.compile(r"[^\W\d]\w*(?:-\w+)*")
_ODD_WORD = re.compile(r"[\w.:-]+")
_SIGN = re.compile(r"<=|>=|[<>(),:.+*/-]|×|÷")
_ESCAPES = {'"': '"', "\\": "\\", "{": "{", "}": "}", "n": "\n"}


class Piece(Struct, frozen=True):
    """A stretch of source to be read: its text, and where it begins."""

    text: str
    line: int
    column: int


class Token(Struct, frozen=True):
    """One word; ``value`` is what it stands for (for texts: pieces of plain text and of values in braces)."""

    kind: TokenKind
    text: str
    spot: Spot
    value: Any = None

    def is_word(self, *words: str) -> bool:
        """Whether it is one of these words of the language."""
        return self.kind == "name" and self.text.lower() in words

    def is_sign(self, *signs: str) -> bool:
        """Whether it is one of these signs."""
        return self.kind == "sign" and self.text in signs


def tokenize(pieces: list[Piece], faults: FaultList, block: list[Any] | None = None) -> list[Token]:
    """The tokens of these pieces, closed by an "end" token. ``block`` is the text block that the last piece opens."""
    tokens: list[Token] = []
    for piece in pieces:
        position = 0
        while position < len(piece.text):
            if piece.text[position] in " \t\u00a0\u202f":
                position += 1
                continue
            token, position = _read_token(piece, position, faults, block)
            if token:
                tokens.append(token)
    last = pieces[-1] if pieces else Piece("", 1, 1)
    tokens.append(Token("end", "", Spot(last.line, last.column + len(last.text.rstrip()), 1)))
    return tokens


def _read_token(piece: Piece, position: int, faults: FaultList, block: list[Any] | None) -> tuple[Token | None, int]:
    text = piece.text

    def at(length: int) -> Spot:
        return Spot(piece.line, piece.column + position, length)

    if text.startswith('"""', position):
        return Token("block", '"""', at(3), block or []), position + 3
    if text[position] in OPENING_QUOTES:
        return _read_text(piece, position, faults)
    if found := _DATE.match(text, position):
        return _to_date(found, at(found.end() - position), faults), found.end()
    if found := _TIME.match(text, position):
        return _to_time(found, at(found.end() - position), faults), found.end()
    if found := _NUMBER.match(text, position):
        return Token("number", found[0], at(len(found[0])), tidy_number(Decimal(found[0]))), found.end()
    if found := _NAME.match(text, position):
        return Token("name", found[0], at(len(found[0]))), found.end()
    if text[position].isdigit():
        word = _ODD_WORD.match(text, position)
        assert word is not None
        faults.add(at(len(word[0])), f"{word[0]} is neither a number, a date nor a name", odd_word_slip(word[0]))
        return None, word.end()
    slip = sign_slip(text, position)
    if slip is None and (found := _SIGN.match(text, position)):
        sign = {"×": "*", "÷": "/"}.get(found[0], found[0])
        return Token("sign", sign, at(len(sign))), found.end()
    length, message, fix = slip or (1, f"the sign {text[position]} means nothing here", "")
    faults.add(at(length), message, fix)
    return None, position + length


def _to_date(found: re.Match[str], spot: Spot, faults: FaultList) -> Token:
    try:
        value = date(int(found[1]), int(found[2]), int(found[3]))
    except ValueError:
        faults.add(spot, f"{found[0]} is no date of the calendar")
        value = date(2000, 1, 1)
    return Token("date", found[0], spot, value)


def _to_time(found: re.Match[str], spot: Spot, faults: FaultList) -> Token:
    hour, minute = int(found[1]), int(found[2])
    if hour > 23 or minute > 59:
        faults.add(spot, f"{found[0]} is no time of the day")
        hour = minute = 0
    return Token("time", found[0], spot, time(hour, minute))


def _read_text(piece: Piece, position: int, faults: FaultList) -> tuple[Token, int]:
    parts, end, closed = split_text(piece, position + 1, faults)
    spot = Spot(piece.line, piece.column + position, end - position)
    if not closed:
        faults.add(spot, "this text is never closed", 'end it with "')
    return Token("text", piece.text[position:end], spot, parts), end


def split_text(
    piece: Piece, position: int, faults: FaultList, *, to_end: bool = False
) -> tuple[list[str | Piece], int, bool]:
    """Plain pieces and values in braces, from ``position`` to the closing quote (or the end, with ``to_end``)."""
    text = piece.text
    parts: list[str | Piece] = []
    plain: list[str] = []
    while position < len(text):
        sign = text[position]
        if not to_end and sign in CLOSING_QUOTES:
            return _close(parts, plain), position + 1, True
        if sign == "\\":
            follow = text[position + 1 : position + 2]
            if follow not in _ESCAPES or follow in "n}":
                spot = Spot(piece.line, piece.column + position, 2)
                faults.add(spot, f"\\{follow} is no escape", r"the escapes are \" \\ and \{")
            plain.append(_ESCAPES.get(follow, follow))
            position += 2
        elif sign == "{":
            end = _find_brace(text, position + 1)
            if end < 0:
                faults.add(
                    Spot(piece.line, piece.column + position),
                    "this brace is never closed",
                    r"a brace itself is written \{",
                )
                return _close(parts, plain), len(text), True
            inner = text[position + 1 : end]
            if not inner.strip():
                faults.add(Spot(piece.line, piece.column + position, 2), "nothing stands in these braces")
            else:
                parts += [*_close([], plain), Piece(inner, piece.line, piece.column + position + 1)]
                plain = []
            position = end + 1
        else:
            plain.append(sign)
            position += 1
    return _close(parts, plain), position, to_end


def _close(parts: list[str | Piece], plain: list[str]) -> list[str | Piece]:
    return [*parts, "".join(plain)] if plain else parts


def _find_brace(text: str, position: int) -> int:
    """Where the brace opened before ``position`` closes; quotes inside are quotes of their own. -1 if never."""
    stack: list[str] = ["{"]
    while position < len(text):
        sign = text[position]
        if stack[-1] == '"':
            if sign == "\\":
                position += 1
            elif sign in CLOSING_QUOTES:
                stack.pop()
            elif sign == "{":
                stack.append("{")
        elif sign in OPENING_QUOTES:
            stack.append('"')
        elif sign == "}":
            stack.pop()
            if not stack:
                return position
        position += 1
    return -1
