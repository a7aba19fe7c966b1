"""Links to join an event from afar: made by a pattern, or by a service that makes, looks up and deletes them."""

from __future__ import annotations

import json
from collections.abc import Sequence
from datetime import datetime
from functools import partial
from urllib.parse import urlsplit

from whenvoca.engine.effects import MEETINGS, Effect, Receipt
from whenvoca.engine.one_by_one import each_by_itself
from whenvoca.engine.place_protocols import Writer
from whenvoca.engine.workspace.meeting_links import WORD
from whenvoca.engine.workspace.settings import Workspace
from whenvoca.engine.workspace.web_key import load_key
from whenvoca.errors import PlaceTrouble, RowFault, SettingsFault, WhenvocaError
from whenvoca.places.bounded_answer import TooMuch, ask
from whenvoca.places.secrets import Secret
from whenvoca.places.settings import PlaceSettings

_SECONDS = 20.0
_MOST_BYTES = 100_000
_PASSING = (408, 425, 429, 500, 502, 503, 504)
_NO_MORE = (404, 410)
_NOT_YET = "https://link-made-when-it-runs.invalid"  # RFC 6761 6.4: no such host


class MeetingPlace(Writer):
    """Makes and ends links; an effect's target is the word by which a link is known, whatever happens in between."""

    def __init__(self, workspace: Workspace) -> None:
        self._workspace = workspace

    def apply(self, effects: Sequence[Effect], stamp: datetime) -> list[Receipt | WhenvocaError]:
        """A receipt's address is the link."""
        settings = self._workspace.meeting_links
        if settings is None:
            return [RowFault("nobody makes meeting links", fix="give meeting-link in [workspace]") for _ in effects]
        if settings.pattern:
            return each_by_itself(effects, partial(self._by_pattern, settings.pattern))
        return each_by_itself(effects, partial(self._by_service, settings.service))

    def _by_pattern(self, pattern: str, effect: Effect) -> Receipt:
        if effect.action == "delete":
            return Receipt()  # nobody keeps it
        key = load_key(self._workspace.make_state_folder())
        return Receipt("", pattern.replace(WORD, key.token("meeting", effect.target)))

    def _by_service(self, service: str, effect: Effect) -> Receipt | WhenvocaError:
        try:
            import httpx
        except ModuleNotFoundError:
            return SettingsFault("a service of meeting links needs httpx", fix="pip install 'whenvoca[server]'")
        address = f"{service}/meetings/{effect.target}"
        headers = {"accept": "application/json", "user-agent": "whenvoca", **self._sign_in()}
        is_deletion = effect.action == "delete"
        content = None if is_deletion else json.dumps(effect.after or {}, ensure_ascii=False, default=str).encode()
        if content is not None:
            headers["content-type"] = "application/json; charset=utf-8"
        try:
            with httpx.Client(timeout=_SECONDS) as client:
                method = "DELETE" if is_deletion else "PUT"
                answer = ask(
                    client, method, address, content=content, headers=headers, most=_MOST_BYTES, seconds=_SECONDS
                )
        except TooMuch:
            return PlaceTrouble("answers more than a link", where=service)
        except httpx.HTTPError as error:
            return PlaceTrouble(f"cannot be reached: {error}", where=service, is_passing=True)
        if answer.status in _PASSING:
            return PlaceTrouble(f"answers {answer.said}", where=service, is_passing=True)
        if is_deletion and (answer.status < 300 or answer.status in _NO_MORE):
            return Receipt()
        if answer.status >= 300:
            return RowFault(f"{service} answers {answer.said}: no meeting link")
        return self._link_of(service, answer.content)

    def _link_of(self, service: str, content: bytes) -> Receipt | WhenvocaError:
        try:
            link = json.loads(content)["link"]
            is_link = isinstance(link, str) and urlsplit(link).scheme in ("http", "https") and link.isprintable()
        except (ValueError, KeyError, TypeError):
            is_link = False
        if not is_link or " " in link:
            return PlaceTrouble("does not answer as a service of meeting links", where=service, is_passing=True)
        return Receipt("", link)

    def _sign_in(self) -> dict[str, str]:
        settings = self._workspace.meeting_links
        if settings is None or not settings.password:
            return {}
        table = {"kind": MEETINGS, "password": settings.password}
        secret = Secret(PlaceSettings("meeting-link", table, self._workspace.text), "password", "meeting-link")
        return {"authorization": f"Bearer {secret.reveal()}"}


class RehearsedMeetings(Writer):
    """Makes no link; what it would be is not known yet."""

    def apply(self, effects: Sequence[Effect], stamp: datetime) -> list[Receipt | WhenvocaError]:
        return [Receipt("", "" if each.action == "delete" else _NOT_YET) for each in effects]
