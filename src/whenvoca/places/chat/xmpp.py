"""A chat over XMPP (RFC 6120, 6121), rooms by XEP-0045, presence by each person's own account.

Connections live in a thread of their own, as long as the place does: what somebody shows lasts while they last.
"""

from __future__ import annotations

import asyncio
import json
import threading
from collections.abc import Callable, Coroutine, Sequence
from concurrent.futures import TimeoutError as Overdue
from datetime import UTC, datetime, timedelta
from typing import Any, TypeVar
from zoneinfo import ZoneInfo

from msgspec.structs import replace

from whenvoca.engine.effects import Effect, Receipt
from whenvoca.engine.message_protocols import Chat, Heard, Presence
from whenvoca.engine.one_by_one import each_by_itself
from whenvoca.engine.people import People, Person
from whenvoca.errors import PlaceTrouble, RowFault, WhenvocaError
from whenvoca.places.chat.xmpp_settings import Arrived, XmppSettings
from whenvoca.places.secrets import Secret

Result = TypeVar("Result")
_OVERLAP = timedelta(minutes=1)  # clocks differ; what was heard already is known by its key


class XmppChat(Chat):
    """A chat on a server. ``secret_of`` gives the password reference of a person who lets their presence be set."""

    def __init__(
        self,
        name: str,
        zone: ZoneInfo,
        settings: XmppSettings,
        people: People,
        secret_of: Callable[[Person], Secret | None],
    ) -> None:
        self.name, self.zone, self.rooms = name, zone, settings.rooms
        self.address = f"xmpp://{settings.host}:{settings.port}"
        self._settings, self._people, self._secret_of = settings, people, secret_of
        self.unheard: list[str] = []
        self._loop: asyncio.AbstractEventLoop | None = None
        self._clients: dict[str, Any] = {}  # by bare JID
        self._wake: Callable[[], None] = lambda: None
        self._room_server = settings.room_server
        self._shown: dict[
            str, tuple[Presence, Presence]
        ] = {}  # by person: what we set, and what others of theirs showed then

    # --- looking

    def holds(self) -> str:
        """Whether the server answers and takes the password."""
        self._do(self._client(self._settings.user, self._settings.password))
        return f"answers, {len(self.rooms)} room{'s' * (len(self.rooms) != 1)}"

    def presence_of(self, person: Person) -> Presence:
        """What the person shows: what we set, unless they changed it since; else what their own programs show."""
        client = self._do(self._client(*self._account(person)))
        theirs: Presence = client.theirs()
        mine = self._shown.get(person.name.lower())
        return theirs if mine is None or theirs != mine[1] else mine[0]

    def heard(self, cursor: str, at: datetime) -> tuple[list[Heard], str]:
        """What came in by the connection, and at its beginning what the server has kept since the cursor."""
        known: dict[str, str] = json.loads(cursor) if cursor else {}
        since, first = known.get("since", ""), known.get("first") or at.astimezone(UTC).isoformat()
        begin = max(datetime.fromisoformat(since) - _OVERLAP, datetime.fromisoformat(first)) if since else None
        arrived = self._do(self._listen(begin, at))
        found = [self._to_heard(each) for each in arrived]
        newest = max([datetime.fromisoformat(since) if since else at, *[each.sent for each in found]])
        return sorted(found, key=lambda each: each.sent), json.dumps(
            {"since": newest.astimezone(UTC).isoformat(), "first": first}
        )

    def listen(self, wake: Callable[[], None]) -> None:
        self._wake = wake

    async def _listen(self, since: datetime | None, at: datetime) -> list[Arrived]:
        client = await self._client(self._settings.user, self._settings.password)
        rooms, self.unheard = {}, []
        for room in self.rooms:
            try:
                address = room if "@" in room else f"{room}@{await self._find_room_server(client)}"
                rooms[address] = room
                if how := client.put_out.pop(address, ""):
                    self.unheard.append(f"{self._where}: we {how} the room {room}")
                    client.wake()  # to be told at once when it is over
                if address not in client.heard_rooms:
                    await client.hear_room(address, self._settings.nickname, since)
            except RowFault as fault:  # the others are heard all the same
                self.unheard.append(str(fault))
        if not client.is_listening:
            await client.hear_own(since)
        arrived: list[Arrived] = client.take_arrived(at)
        return [replace(each, room=rooms.get(each.room, each.room)) for each in arrived]

    def _to_heard(self, each: Arrived) -> Heard:
        local, _, domain = each.sender.partition("@")
        person = self._people.find(each.sender)
        if person is None and domain == self._settings.domain:
            person = self._people.find(local)
        if person is None:
            name, known = each.sender, [each.sender]
        else:
            name = person.name
            known = [name for name in (person.name, person.mail, person.chat, each.sender) if name]
        assert each.sent is not None
        numbers = each.number, each.corrects
        return Heard(each.key, name, each.room, each.text, each.sent, each.sound, tuple(known), *numbers)

    # --- writing

    def apply(self, effects: Sequence[Effect], stamp: datetime) -> list[Receipt | WhenvocaError]:
        return each_by_itself(effects, self._apply_one)

    def _apply_one(self, effect: Effect) -> Receipt:
        after = effect.after or {}
        if effect.action == "send":
            self._do(self._send(effect.target, after))
        else:
            person = self._people.find(effect.target)
            if person is None:
                raise RowFault(f'there is nobody "{effect.target}" in [people]')
            self._show(person, Presence.of(after), is_back=effect.action != "set")
        return Receipt()

    def keep_showing(self, person: Person, presence: Presence) -> None:
        self._do(self._client(*self._account(person)))  # a connection made anew shows nothing yet
        if person.name.lower() not in self._shown:
            self._show(person, presence, is_back=False)

    def stop_showing(self, person: Person) -> None:
        if person.name.lower() in self._shown:
            client = self._do(self._client(*self._account(person)))
            self._do(client.show(None))
            self._shown.pop(person.name.lower(), None)

    def _show(self, person: Person, presence: Presence, *, is_back: bool) -> None:
        client = self._do(self._client(*self._account(person)))
        theirs: Presence = client.theirs()
        key = person.name.lower()
        if is_back and presence == theirs:
            self._do(client.show(None))
            self._shown.pop(key, None)
        else:
            self._do(client.show(presence))
            self._shown[key] = (presence, theirs)

    def _account(self, person: Person) -> tuple[str, Secret]:
        secret = self._secret_of(person)
        if secret is None:
            raise RowFault(
                f"{person.name} has not lent a password, so what they show cannot be set",
                where=self.name,
                fix=f'[people.{person.name}] password = {{ env = "…" }}',
            )
        name = person.chat or person.name
        return (name if "@" in name else f"{name}@{self._settings.domain}"), secret

    async def _send(self, number: str, after: dict[str, Any]) -> None:
        client = await self._client(self._settings.user, self._settings.password)
        room = str(after.get("room") or "")
        if not room:
            name = str(after["chat"])
            await client.say(name if "@" in name else f"{name}@{self._settings.domain}", str(after["text"]), number)
            return
        address = room if "@" in room else f"{room}@{await self._find_room_server(client)}"
        if address not in client.joined:
            await client.join(address, self._settings.nickname)
        await client.say_in(address, str(after["text"]), number)

    async def _find_room_server(self, client: Any) -> str:
        if not self._room_server:
            self._room_server = await client.find_room_server(self._settings.domain)
        return self._room_server

    # --- connections

    async def _client(self, jid: str, password: Secret) -> Any:
        """The connected client of an account, connected now if it is not."""
        from whenvoca.places.chat.xmpp_client import connect

        known = self._clients.get(jid)
        if known is not None and known.is_up:
            return known
        is_person = jid != self._settings.user
        client = await connect(jid, password.reveal(), self._settings, self.name, is_person=is_person)
        client.wake = lambda: self._wake()
        self._clients[jid] = client
        if is_person:
            self._shown = {name: each for name, each in self._shown.items() if not self._is_of(name, jid)}
        return client

    def _is_of(self, name: str, jid: str) -> bool:
        person = self._people.find(name)
        return person is not None and self._account(person)[0] == jid

    def _do(self, work: Coroutine[Any, Any, Result]) -> Result:
        """Does something in the connections' thread. Raises PlaceTrouble where the server does not answer in time."""
        if self._loop is None:
            self._loop = asyncio.new_event_loop()
            self._thread = threading.Thread(target=run_loop, args=(self._loop,), daemon=True)
            self._thread.start()
        doing = asyncio.run_coroutine_threadsafe(work, self._loop)
        try:
            return doing.result(self._settings.seconds * 2)
        except Overdue as error:
            doing.cancel()
            raise PlaceTrouble("does not answer in time", where=self._where, is_passing=True) from error

    @property
    def _where(self) -> str:
        return f"{self.name}, {self._settings.host}:{self._settings.port}"

    def close(self) -> None:
        if self._loop is None:
            return
        loop, clients = self._loop, list(self._clients.values())
        self._clients, self._loop = {}, None

        async def end() -> None:
            for client in clients:
                await client.end()

        doing = asyncio.run_coroutine_threadsafe(end(), loop)
        try:
            doing.result(5)
        except (Overdue, OSError):
            doing.cancel()
        loop.call_soon_threadsafe(loop.stop)
        self._thread.join(5)


def run_loop(loop: asyncio.AbstractEventLoop) -> None:
    """Runs a loop until it is stopped, and leaves nothing of it behind."""
    loop.run_forever()
    left = asyncio.all_tasks(loop)
    for task in left:
        task.cancel()
    loop.run_until_complete(asyncio.gather(*left, return_exceptions=True))
    loop.close()
