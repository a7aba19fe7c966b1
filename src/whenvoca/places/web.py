"""The web, as the step `call` reaches it: JSON over HTTP, with an idempotency key."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from datetime import datetime

from whenvoca.engine.effects import Effect, Receipt
from whenvoca.engine.one_by_one import each_by_itself
from whenvoca.engine.place_protocols import Writer
from whenvoca.errors import PlaceTrouble, RowFault, SettingsFault, WhenvocaError
from whenvoca.places.bounded_answer import TooMuch, ask

_SECONDS = 20.0
_MOST_BYTES = 1_000_000
_PASSING = (408, 425, 429, 500, 502, 503, 504)
_MOST_SAID = 120  # signs of a refusal's body that a message quotes


class Web(Writer):
    """Calls addresses. Redirects are not followed: the address stands in the workflow."""

    def __init__(self, wait: Callable[[float], None]) -> None:
        self._wait = wait

    def apply(self, effects: Sequence[Effect], stamp: datetime) -> list[Receipt | WhenvocaError]:
        """Calls each; a receipt carries the number of the answer and its body."""
        return each_by_itself(effects, self._call)

    def _call(self, effect: Effect) -> Receipt | WhenvocaError:
        try:
            import httpx
        except ModuleNotFoundError:
            return SettingsFault("calling an address needs httpx", fix="pip install 'whenvoca[server]'")
        after = effect.after or {}
        address, body = str(after["address"]), after.get("body")
        headers = {"accept": "application/json", "idempotency-key": effect.target, "user-agent": "whenvoca"}
        if body is not None:
            headers["content-type"] = "application/json; charset=utf-8"
        content = str(body).encode() if body is not None else None
        try:
            with httpx.Client(timeout=_SECONDS) as client:
                answer = ask(
                    client,
                    str(after["method"]),
                    address,
                    content=content,
                    headers=headers,
                    most=_MOST_BYTES,
                    seconds=_SECONDS,
                )
        except TooMuch:
            return RowFault(f"{address} answers with more than {_MOST_BYTES // 1_000_000} MB")
        except httpx.InvalidURL as error:
            return RowFault(f'"{address}" is no web address: {error}')
        except (httpx.ConnectError, httpx.ConnectTimeout) as error:
            return PlaceTrouble(f"cannot be reached: {error}", where=address, is_passing=True)
        except httpx.RequestError as error:
            said = (
                "does not answer in time"
                if isinstance(error, httpx.TimeoutException)
                else "answers what cannot be unpacked"
                if isinstance(error, httpx.DecodingError)
                else f"ended the connection: {error}"
            )
            if after.get("repeatable") is False:
                return RowFault(
                    f"in doubt: {address} {said}, and the call may have been done",
                    fix="look there, then: whenvoca retry does it again",
                )
            return PlaceTrouble(said, where=address, is_passing=True)
        is_accepted = answer.status in (after.get("accept") or ())
        if answer.status in _PASSING and not is_accepted:
            pause = answer.headers.get("retry-after", "")
            if pause.isascii() and pause.isdecimal():
                self._wait(min(float(pause), _SECONDS))
            return PlaceTrouble(f"answers {answer.said}", where=address, is_passing=True)
        text = answer.content.decode("utf-8", "replace")
        if answer.status >= 300 and not is_accepted:
            said = " ".join(text.split())[:_MOST_SAID]
            return RowFault(f"{address} answers {answer.said}" + (f": {said}" if said else ""))
        return Receipt(str(answer.status), text)


class RehearsedWeb(Writer):
    """Calls nothing; what would be answered is unknown."""

    def apply(self, effects: Sequence[Effect], stamp: datetime) -> list[Receipt | WhenvocaError]:
        return [Receipt() for _ in effects]
