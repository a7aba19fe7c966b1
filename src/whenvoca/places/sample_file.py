"""Samples: an entry of a form, or a web call, in a file, so that it can be looked at and rehearsed."""

from __future__ import annotations

import json
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from whenvoca.engine.ledger.records import Sample
from whenvoca.errors import RequestFault
from whenvoca.places import files

FIELDS = "fields"  # the content type, so to speak, of what was filled in
_MOST = 5_000_000  # bytes
_OF_ENTRY = '{"place": "lending", "fields": {"Name": "Joana"}}'
_OF_CALL = '{"place": "bookings", "headers": {"content-type": "application/json"}, "body": {…}}'


def load_sample(path: Path) -> dict[str, Any]:
    """What a file holds: "place", and "fields", or "headers" and "body". Raises RequestFault."""
    if not path.exists():
        raise RequestFault("there is no such file", where=str(path))
    try:
        data = json.loads(files.read_file(path)[:_MOST].decode("utf-8-sig"))
    except (ValueError, RecursionError) as error:
        raise RequestFault("the file is not JSON", where=str(path), fix=f"such as {_OF_ENTRY}") from error
    if not isinstance(data, dict) or not isinstance(data.get("place"), str):
        raise RequestFault("the sample names no place", where=str(path), fix=f"such as {_OF_ENTRY}")
    if not isinstance(data.get("fields"), dict) and "body" not in data:
        raise RequestFault("the sample has neither fields nor a body", where=str(path), fix=f"{_OF_ENTRY}, {_OF_CALL}")
    return data


def to_sample_file(place: str, sample: Sample) -> str:
    """The text of such a file. It names no secret: of the headers only the content type."""
    if sample.kind == FIELDS:
        told: dict[str, Any] = {"place": place, "fields": json.loads(sample.body)}
    else:
        told = {"place": place, "headers": {"content-type": sample.kind}, "body": _body(sample)}
    return json.dumps(told, ensure_ascii=False, indent=2) + "\n"


def _body(sample: Sample) -> Any:
    if "json" not in sample.kind:
        return sample.body
    try:
        return json.loads(sample.body)
    except ValueError:
        return sample.body


def fields_of(data: Mapping[str, Any]) -> dict[str, list[str]]:
    """What was typed into each field, by the field's name. Raises RequestFault for a sample of something else."""
    given = data.get("fields")
    if not isinstance(given, dict):
        raise RequestFault("the sample is of a web call, and the place is a form", fix=f"such as {_OF_ENTRY}")
    return {
        name: [_text(each) for each in (value if isinstance(value, list) else [value])] for name, value in given.items()
    }


def _text(value: Any) -> str:
    if isinstance(value, bool):
        return "yes" if value else "no"
    return "" if value is None else str(value)


def body_of(data: Mapping[str, Any]) -> tuple[str, bytes]:
    """The content type and the body of a call. Raises RequestFault for a sample of something else."""
    if "body" not in data:
        raise RequestFault("the sample is of a form, and the place is a hook", fix=f"such as {_OF_CALL}")
    given = data.get("headers") or {}
    headers = {str(name).lower(): str(value) for name, value in given.items()} if isinstance(given, dict) else {}
    body = data["body"]
    text = body if isinstance(body, str) else json.dumps(body, ensure_ascii=False)
    return headers.get("content-type", "application/json"), text.encode("utf-8", "replace")
