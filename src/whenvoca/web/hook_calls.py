"""Web calls to hooks: checked, kept, and answered with a number, or with what became of them."""

from __future__ import annotations

import re
from collections.abc import Sequence

from starlette.exceptions import HTTPException
from starlette.requests import Request
from starlette.responses import JSONResponse, Response

from whenvoca.engine.clock import Clock
from whenvoca.engine.ledger.protocol import Ledger
from whenvoca.engine.ledger.records import Sample
from whenvoca.errors import SourceFault, WhenvocaError
from whenvoca.places.hook.body import BodyFault
from whenvoca.places.hook.keeping import keep_call
from whenvoca.places.hook.place import Hook
from whenvoca.places.hook.reading import WebCall
from whenvoca.web.house import House
from whenvoca.web.outcomes import Story, story_of
from whenvoca.web.rehearsals import is_rehearsed, rehearse_last
from whenvoca.web.requests import read_body

_WAIT = re.compile(r"(?:^|[,;\s])wait\s*=\s*\"?(\d{1,3})\"?", re.IGNORECASE)  # RFC 7240 4.3
_LONGEST_WAIT = 60.0
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
        kind = headers.get("content-type", "")
        try:
            call = self._hook.read(kind, body, self._clock.now())
        except SourceFault as fault:
            status = fault.status if isinstance(fault, BodyFault) else 422
            raise HTTPException(status, f"{fault.message}{'; ' + fault.fix if fault.fix else ''}") from fault
        kept = await self._house.intake.do(lambda ledger: self._keep(ledger, call, kind, body))
        if kept is None:
            return JSONResponse(await rehearse_last(self._house, self._hook.name, self._hook.wake))
        number, subjects, arrival = kept
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

    def _keep(self, ledger: Ledger, call: WebCall, kind: str, body: bytes) -> tuple[int, Sequence[str], int] | None:
        """Keeps what a call says; answers its number, its subjects, and the last arrival. None while calls are only
        rehearsed."""
        name, now = self._hook.name, self._clock.now()
        ledger.put_sample(name, Sample(now.isoformat(), kind, body.decode("utf-8", "replace")))
        if is_rehearsed(ledger, name, now):
            return None
        return keep_call(ledger, name, call, now)


def _outcome(number: int, stories: list[Story]) -> Response:
    states = {each.state for each in stories}
    state = "failed" if "failed" in states else "waiting" if "waiting" in states or not states else "done"
    reason = next((each.reason for each in stories if each.state == state and each.reason), "")
    runs = sorted({run for each in stories for run in each.runs})
    return JSONResponse({"number": number, "state": state, "reason": reason, "runs": runs}, _STATUS[state])
