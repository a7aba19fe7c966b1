"""The body of a web call as data: JSON (RFC 8259), or the fields of a form."""

from __future__ import annotations

import json
import math
from typing import Any
from urllib.parse import parse_qsl

from whenvoca.errors import SourceFault
from whenvoca.values.texts import clean_text

_DEEPEST = 40


class BodyFault(SourceFault):
    """A body that cannot be read. ``status`` is what HTTP says of it."""

    def __init__(self, message: str, status: int = 400) -> None:
        super().__init__(message)
        self.status = status


def read_data(kind: str, body: bytes) -> Any:
    """What a body says: JSON (RFC 8259), or the fields of a form. Raises BodyFault for anything else."""
    kind = kind.partition(";")[0].strip().lower()
    if kind == "application/x-www-form-urlencoded":
        try:
            pairs = parse_qsl(body.decode(), keep_blank_values=True, max_num_fields=500, strict_parsing=True)
        except (ValueError, UnicodeDecodeError) as error:
            raise BodyFault("the form cannot be read") from error
        found: dict[str, Any] = {}
        for name, value in pairs:
            if name in found:
                raise BodyFault(f'"{clean_text(name)[:60]}" is given twice')
            found[name] = clean_text(value)
        return found
    if kind != "application/json" and not kind.endswith("+json"):
        raise BodyFault("a call carries JSON, or the fields of a form", 415)
    try:
        data = json.loads(body.decode(), object_pairs_hook=_only_once, parse_constant=_no_constant)
    except UnicodeDecodeError as error:
        raise BodyFault("the body is not UTF-8") from error
    except RecursionError as error:
        raise BodyFault("the JSON is nested too deeply") from error
    except ValueError as error:
        raise BodyFault(f"the body is not JSON: {error}") from error
    return _checked(data, 0)


def _only_once(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
    found = dict(pairs)
    if len(found) != len(pairs):
        names = [name for name, _ in pairs]
        twice = next(name for name in names if names.count(name) > 1)
        raise ValueError(f'"{clean_text(twice)[:60]}" is given twice')
    return found


def _no_constant(word: str) -> Any:
    raise ValueError(f"{word} is not a number")


def _checked(data: Any, depth: int) -> Any:
    """The data with texts that every document can hold. Raises BodyFault for what is nested too deeply."""
    if depth > _DEEPEST:
        raise BodyFault("the JSON is nested too deeply")
    if isinstance(data, dict):
        return {clean_text(name): _checked(value, depth + 1) for name, value in data.items()}
    if isinstance(data, list):
        return [_checked(each, depth + 1) for each in data]
    if isinstance(data, float) and not math.isfinite(data):
        raise BodyFault("a number is too large")
    return clean_text(data) if isinstance(data, str) else data
