"""The step `call ADDRESS`: HTTP with JSON."""

from __future__ import annotations

from datetime import date, datetime
from decimal import Decimal
from typing import Any

from whenvoca.engine.acting.effect_kind import EffectKind
from whenvoca.engine.acting.keyed import Acting
from whenvoca.engine.acting.step_call import StepCall
from whenvoca.engine.effects import THE_WEB, Effect, show_brief
from whenvoca.errors import RowFault
from whenvoca.language.definitions import FieldDefinition, Sentence, StepDefinition
from whenvoca.language.names import untyped
from whenvoca.values.texts import show_value

_METHODS = ("get", "post", "put", "patch", "delete")
SAFE_TO_REPEAT = ("get", "put", "delete")


class CallAnswer:
    """What came back: its members by name; `status` is the number of the answer. Unknown while it is only rehearsed."""

    def __init__(self, status: str, body: Any) -> None:
        self.status, self.body = status, body

    def value_of(self, word: str) -> Any:
        """A member of the answer, nothing if it has none of that name."""
        if word == "status":
            return int(self.status) if self.status.isdigit() else None
        members = (
            {str(name).lower().replace("_", "-"): value for name, value in self.body.items()}
            if isinstance(self.body, dict)
            else {}
        )
        value = members.get(word)
        return CallAnswer(self.status, value) if isinstance(value, dict) else value

    def where_is(self, word: str) -> str:
        """Where it comes from."""
        return f"the answer's {word}"


def _act(call: StepCall) -> Acting:
    import json

    address = show_value(call.sentence_value).strip()
    from urllib.parse import urlsplit

    parts = urlsplit(address)
    if parts.scheme not in ("http", "https") or not parts.hostname:
        raise RowFault(f'"{address}" is no web address', fix="such as https://hall.example.org/hook")
    if not call.allows_host(parts.hostname):
        raise RowFault(
            f"{parts.hostname} is named neither in the workflow nor in the settings",
            fix="write the host out in the call line",
        )
    members = {written: _to_json(value) for written, value in call.columns()}
    method = call.text("method") or ("post" if members else "get")
    after: dict[str, Any] = {"method": method.upper(), "address": address}
    if members:
        after["body"] = json.dumps(members, ensure_ascii=False)
    if accepted := _accepted(call):
        after["accept"] = accepted
    if method not in SAFE_TO_REPEAT and not call.value("repeatable", False):
        after["repeatable"] = False
    receipt = yield Effect(verb="call", place=THE_WEB, target=call.occasion(address), after=after)
    try:
        body = json.loads(receipt.address) if receipt.address else None
    except ValueError:
        body = {"text": receipt.address}
    return CallAnswer(receipt.version, body)


def _accepted(call: StepCall) -> list[int]:
    """The statuses that are an answer like any other. Raises RowFault for what is none."""
    value = call.value("accept")
    found: list[int] = []
    for each in value if isinstance(value, list | tuple) else [] if value is None else [value]:
        text = show_value(each)
        if not (text.isascii() and text.isdecimal() and 300 <= int(text) <= 599):
            raise RowFault(f'accept: "{text}" is not a status from 300 to 599', fix="such as accept 404")
        found.append(int(text))
    return found


def _to_json(value: Any) -> Any:
    """A value as JSON has it: moments and days as RFC 3339 texts."""
    match value:
        case None | bool() | int() | str():
            return value
        case Decimal():
            return float(value)
        case datetime() | date():
            return value.isoformat()
        case list() | tuple():
            return [_to_json(item) for item in value]
    return show_value(value)


def _in_short(effect: Effect) -> str:
    after = effect.after or {}
    return f"{after.get('method')} {show_brief(after.get('body'))}".strip()


CALL_EFFECT = EffectKind(
    verb="call",
    line=lambda effect: f"{(effect.after or {}).get('method')} {(effect.after or {}).get('address')}",
    target=lambda effect: show_brief((effect.after or {}).get("address")),
    detail=_in_short,
    counts_as=("call",),
    told_as=lambda effect: f"the call of {(effect.after or {}).get('address')}",
    may_repeat=lambda effect: (effect.after or {}).get("repeatable") is not False,
)
CALL = StepDefinition(
    sentence=Sentence("call ADDRESS"),
    meaning="Calls a web address: each line below it that is no field becomes a member of the JSON object that is "
    "posted. `as NAME` gives the answer: NAME.status, and its members. The host has to stand in the workflow "
    "itself. With the same Idempotency-Key it is called again while the server is away. If it is not known "
    "after a crash whether a POST was done, the run fails as in doubt and retry decides, unless repeatable "
    "says yes.",
    fields=(
        FieldDefinition("method", "choice", "The HTTP method.", choices=_METHODS, default="post, get without members"),
        FieldDefinition(
            "accept",
            "value",
            "Statuses from 300 on that are an answer like any other; without it they are failures.",
            example="404",
        ),
        FieldDefinition("repeatable", "yes-no", "Whether doing it twice does no harm.", default="no"),
    ),
    columns_as_fields=True,
    columns_optional=True,
    makes=untyped,
    value_type="text",
    is_told=True,
    effects=(CALL_EFFECT,),
    example='call "https://hall.example.org/doors" as answer\n  Room   event.location\n  Until  event.end',
    act=_act,
)
