"""Web calls to hooks: checked, kept, and answered with a number, or with what became of them."""

from __future__ import annotations

import json
import math
import re
from collections.abc import Mapping
from typing import Any
from urllib.parse import parse_qsl

from starlette.exceptions import HTTPException
from starlette.requests import Request
from starlette.responses import JSONResponse, Response

from whenvoca.engine.clock import Clock
from whenvoca.engine.ledger.protocol import Ledger
from whenvoca.engine.ledger.records import KeptEntry
from whenvoca.engine.things.entry import VERSION
from whenvoca.errors import SourceFault, WhenvocaError
from whenvoca.places.hook.place import Hook
from whenvoca.places.hook.reading import Element, is_older, read_elements, word_at
from whenvoca.web.house import House
from whenvoca.web.outcomes import Story, story_of
from whenvoca.web.requests import clean, read_body

_WAIT = re.compile(r"(?:^|[,;\s])wait\s*=\s*\"?(\d{1,3})\"?", re.IGNORECASE)  # RFC 7240 4.3
_LONGEST_WAIT = 60.0
_DEEPEST = 40
_STATUS = {"done": 200, "failed": 422, "waiting": 202}


class HookCalls:
    """The calls to one hook."""

    def __init__(self, house: House, hook: Hook, clock: Clock) -> None:
        self._house, self._hook, self._clock = house, hook, clock

    async def take(self, request: Request) -> Response:
        """One call. Raises HTTPException with what is wrong with it."""
        body = await read_body(request, self._house.settings.size)
        headers = {name.lower(): value for name, value in request.headers.items()}
        if self._hook.signature is not None:
            try:
                why = self._hook.signature.why_refused(headers, body, self._clock.now())
            except WhenvocaError as error:
                raise HTTPException(503, "the signature cannot be checked just now") from error
            if why:
                raise HTTPException(401, why)
        data = read_data(headers.get("content-type", ""), body)
        reading = self._hook.reading
        try:
            once = word_at(data, reading.once, "id") if reading.once else ""
            elements = read_elements(reading, data, self._clock.now(), self._hook.zone)
        except SourceFault as fault:
            raise HTTPException(422, f"{fault.message}{'; ' + fault.fix if fault.fix else ''}") from fault
        number, subjects, arrival = await self._house.intake.do(lambda ledger: self._keep(ledger, elements, once))
        self._hook.wake()
        wait = _WAIT.search(headers.get("prefer", ""))
        if wait is None:
            return JSONResponse({"number": number}, 202)
        seconds = min(float(wait[1]), _LONGEST_WAIT)
        await self._house.waiting.until_looked_at(self._hook.name, arrival, seconds)
        told = await self._house.intake.do(
            lambda ledger: [story_of(ledger, self._hook.name, subject) for subject in subjects]
        )
        return _outcome(number, [each for each in told if each is not None])

    def _keep(self, ledger: Ledger, elements: list[Element], once: str) -> tuple[int, list[str], int]:
        """Keeps what a call says; answers its number, its subjects, and the last arrival. A repetition is answered as
        the first one."""
        name, now = self._hook.name, self._clock.now()
        known = ledger.taken_before(name, once)
        if known is not None:
            first, *subjects = known.split("\n")
            return int(first), subjects, ledger.last_arrival(name)
        number = ledger.next_number(name)
        subjects = []
        for index, each in enumerate(elements, 1):
            subject = each.about or (str(number) if len(elements) == 1 else f"{number}.{index}")
            subjects.append(subject)
            earlier = ledger.entry(name, subject)
            before: Mapping[str, Any] = (earlier.state or {}) if earlier is not None else {}
            if is_older(each.newer, before.get(VERSION)):
                continue
            if each.is_gone and not before:
                continue
            values = {**before, **each.values, "number": number, "sent": now}
            if each.newer is not None:
                values[VERSION] = each.newer
            state = None if each.is_gone else {name: value for name, value in values.items() if value is not None}
            ledger.put_entry(name, KeptEntry(subject, number, now.isoformat(), state))
        ledger.remember_once(name, once, "\n".join([str(number), *subjects]), now.isoformat())
        return number, subjects, ledger.last_arrival(name)


def _outcome(number: int, stories: list[Story]) -> Response:
    states = {each.state for each in stories}
    state = "failed" if "failed" in states else "waiting" if "waiting" in states or not states else "done"
    reason = next((each.reason for each in stories if each.state == state and each.reason), "")
    runs = sorted({run for each in stories for run in each.runs})
    return JSONResponse({"number": number, "state": state, "reason": reason, "runs": runs}, _STATUS[state])


def read_data(kind: str, body: bytes) -> Any:
    """What a body says: JSON (RFC 8259), or the fields of a form. Raises HTTPException for anything else."""
    kind = kind.partition(";")[0].strip().lower()
    if kind == "application/x-www-form-urlencoded":
        try:
            pairs = parse_qsl(body.decode(), keep_blank_values=True, max_num_fields=500, strict_parsing=True)
        except (ValueError, UnicodeDecodeError) as error:
            raise HTTPException(400, "the form cannot be read") from error
        found: dict[str, Any] = {}
        for name, value in pairs:
            if name in found:
                raise HTTPException(400, f'"{clean(name)[:60]}" is given twice')
            found[name] = clean(value)
        return found
    if kind != "application/json" and not kind.endswith("+json"):
        raise HTTPException(415, "a call carries JSON, or the fields of a form")
    try:
        data = json.loads(body.decode(), object_pairs_hook=_only_once, parse_constant=_no_constant)
    except UnicodeDecodeError as error:
        raise HTTPException(400, "the body is not UTF-8") from error
    except RecursionError as error:
        raise HTTPException(400, "the JSON is nested too deeply") from error
    except ValueError as error:
        raise HTTPException(400, f"the body is not JSON: {error}") from error
    return _checked(data, 0)


def _only_once(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
    found = dict(pairs)
    if len(found) != len(pairs):
        names = [name for name, _ in pairs]
        twice = next(name for name in names if names.count(name) > 1)
        raise ValueError(f'"{clean(twice)[:60]}" is given twice')
    return found


def _no_constant(word: str) -> Any:
    raise ValueError(f"{word} is not a number")


def _checked(data: Any, depth: int) -> Any:
    """The data with texts that every document can hold. Raises HTTPException for what is nested too deeply."""
    if depth > _DEEPEST:
        raise HTTPException(400, "the JSON is nested too deeply")
    if isinstance(data, dict):
        return {clean(name): _checked(value, depth + 1) for name, value in data.items()}
    if isinstance(data, list):
        return [_checked(each, depth + 1) for each in data]
    if isinstance(data, float) and not math.isfinite(data):
        raise HTTPException(400, "a number is too large")
    return clean(data) if isinstance(data, str) else data
