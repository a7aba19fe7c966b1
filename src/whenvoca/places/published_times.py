"""Busy times that people publish elsewhere: a file, or an address on the web."""

from __future__ import annotations

from whenvoca.calendars.free_busy import FreeBusy, read_free_busy
from whenvoca.errors import PlaceTrouble, SettingsFault
from whenvoca.places.bounded_answer import TooMuch, ask

_SECONDS = 20.0
_MOST_BYTES = 4_000_000
_PASSING = (408, 425, 429, 500, 502, 503, 504)


def fetch_free_busy(address: str) -> FreeBusy:
    """The busy times that stand at an address. Raises PlaceTrouble, SourceFault where it holds none."""
    try:
        import httpx
    except ModuleNotFoundError as error:
        raise SettingsFault("busy times on the web need httpx", fix="pip install 'whenvoca[server]'") from error
    try:
        with httpx.Client(timeout=_SECONDS, follow_redirects=True) as client:
            headers = {"accept": "text/calendar", "user-agent": "whenvoca"}
            answer = ask(client, "GET", address, headers=headers, most=_MOST_BYTES, seconds=_SECONDS)
    except (httpx.HTTPError, httpx.InvalidURL) as error:
        raise PlaceTrouble(f"does not give its busy times: {error}", where=address, is_passing=True) from error
    except TooMuch as error:
        raise PlaceTrouble(error.message, where=address) from error
    if answer.status != 200:
        said = f"does not give its busy times: {answer.said}"
        raise PlaceTrouble(said, where=address, is_passing=answer.status in _PASSING)
    return read_free_busy(answer.content, address)
