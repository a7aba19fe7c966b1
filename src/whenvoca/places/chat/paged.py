"""A chat on a server that has a page besides: what is said there is heard too, and answers stand there as well."""

from __future__ import annotations

import json
from collections.abc import Callable, Sequence
from datetime import datetime

from whenvoca.engine.effects import Effect, Receipt
from whenvoca.engine.message_protocols import Chat, Heard, Presence
from whenvoca.engine.people import Person
from whenvoca.errors import WhenvocaError
from whenvoca.language.definitions import PlaceInfo
from whenvoca.places.chat.folder import FolderChat


class PagedChat(Chat):
    """The chat on the server, and ``box``, in which everything that is said on the page stands."""

    def __init__(self, chat: Chat, box: FolderChat) -> None:
        self._chat, self.box = chat, box
        self.name, self.zone, self.address, self.rooms = chat.name, chat.zone, chat.address, chat.rooms

    @property
    def unheard(self) -> Sequence[str]:  # type: ignore[override]
        """Why rooms are not heard, as of the last time."""
        return self._chat.unheard

    def info(self) -> PlaceInfo:
        return self.box.info()

    def holds(self) -> str:
        return self._chat.holds()

    def heard(self, cursor: str, at: datetime) -> tuple[list[Heard], str]:
        """What was said on the server, and on the page."""
        known = json.loads(cursor) if cursor.startswith('{"page"') else {"page": "", "server": cursor}
        on_page, known["page"] = self.box.heard(known["page"], at)
        on_server, known["server"] = self._chat.heard(known["server"], at)
        return sorted([*on_page, *on_server], key=lambda each: each.sent), json.dumps(known, sort_keys=True)

    def listen(self, wake: Callable[[], None]) -> None:
        """Both tell by themselves."""
        self.box.listen(wake)
        self._chat.listen(wake)

    def apply(self, effects: Sequence[Effect], stamp: datetime) -> list[Receipt | WhenvocaError]:
        """Says it on the server; what went to a person stands on their page as well."""
        results = self._chat.apply(effects, stamp)
        to_people = [
            effect
            for effect, result in zip(effects, results, strict=True)
            if isinstance(result, Receipt) and effect.action == "send" and not (effect.after or {}).get("room")
        ]
        self.box.apply(to_people, stamp)
        return results

    def presence_of(self, person: Person) -> Presence:
        return self._chat.presence_of(person)

    def keep_showing(self, person: Person, presence: Presence) -> None:
        self._chat.keep_showing(person, presence)

    def stop_showing(self, person: Person) -> None:
        self._chat.stop_showing(person)

    def close(self) -> None:
        self._chat.close()
