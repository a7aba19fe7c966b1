"""One connection to an XMPP server, on slixmpp: its answers as results, its troubles as ours."""

from __future__ import annotations

import asyncio
import logging
import ssl
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from msgspec.structs import replace
from slixmpp import ClientXMPP
from slixmpp.exceptions import IqError, IqTimeout, PresenceError, XMPPError

from whenvoca.engine.clock import RealClock
from whenvoca.engine.message_protocols import Presence
from whenvoca.errors import PlaceTrouble, RowFault
from whenvoca.places.chat.xmpp_message import OwnNumbers, read_said, retracted_by
from whenvoca.places.chat.xmpp_settings import Arrived, XmppSettings

logging.getLogger("slixmpp").addHandler(logging.NullHandler())  # what is wrong is said by us, with the place's name
logging.getLogger("slixmpp").propagate = False
_MUC_USER = "{http://jabber.org/protocol/muc#user}"
_PUT_OUT = (("301", "were banned from"), ("307", "were put out of"), ("321", "were put out of"))  # XEP-0045 15.6
_MOST_KNOWN = 1000  # messages that may be corrected


def _aware(moment: datetime) -> datetime:
    return moment if moment.tzinfo is not None else moment.replace(tzinfo=UTC)


class Client(ClientXMPP):
    """A connected account. ``is_person``: somebody's own, whose presence we set without taking their messages."""

    def __init__(self, jid: str, password: str, settings: XmppSettings, place: str, *, is_person: bool) -> None:
        plain = {"unencrypted_plain": settings.tls == "none", "unencrypted_scram": settings.tls == "none"}
        super().__init__(jid, password, plugin_config={"feature_mechanisms": plain})
        for plugin in ("xep_0030", "xep_0045", "xep_0066", "xep_0199", "xep_0203", "xep_0313", "xep_0359"):
            self.register_plugin(plugin)
        self._plugins: Any = self.plugin  # by their numbers; the library types them loosely
        self.enable_direct_tls = settings.tls == "implicit"
        self.enable_starttls = settings.tls == "starttls"
        self.enable_plaintext = settings.tls == "none"
        self.auto_reconnect = False
        if settings.ca:
            self.ca_certs = Path(settings.ca)
        self.is_up = False
        self.joined: set[str] = set()
        self.heard_rooms: set[str] = set()
        self.put_out: dict[str, str] = {}  # how we came out of rooms that we heard, until somebody has been told
        self.is_listening = False
        self.wake: Callable[[], None] = lambda: None
        self._arrived: dict[str, Arrived] = {}  # by key
        self._keys: dict[tuple[str, str], str] = {}  # of messages by sender and number, for corrections
        self._numbers, self._clock = OwnNumbers(), RealClock()
        self._settings, self._place, self._is_person = settings, place, is_person
        self._ready: asyncio.Future[None] = asyncio.get_running_loop().create_future()
        self._echoes: dict[str, asyncio.Future[None]] = {}
        self._errors: dict[str, str] = {}
        self._others: dict[str, Presence] = {}
        self.add_event_handler("session_start", self._start)
        self.add_event_handler("disconnected", self._down)
        self.add_event_handler("groupchat_message", self._echoed)
        self.add_event_handler("message_error", self._refused)
        if not is_person:
            self.add_event_handler("message", self._came)
            self.add_event_handler("groupchat_presence", self._left)
        self.add_event_handler("presence", self._seen)
        for event, heard in (
            ("failed_all_auth", self._not_let_in),
            ("no_auth", self._not_let_in),
            ("connection_failed", self._not_connected),
            ("ssl_invalid_chain", self._not_connected),
        ):
            self.add_event_handler(event, heard)

    @property
    def where(self) -> str:
        """The place in messages."""
        return f"{self._place}, {self._settings.host}:{self._settings.port}"

    # --- what the server says

    def _fail(self, said: str, fix: str = "", *, is_passing: bool = False) -> None:
        if not self._ready.done():
            self._ready.set_exception(PlaceTrouble(said, where=self.where, fix=fix, is_passing=is_passing))

    def _not_let_in(self, _: Any) -> None:
        if self._settings.tls == "starttls" and (
            self.transport is None or self.transport.get_extra_info("ssl_object") is None
        ):
            self._fail(
                "the server offers no TLS, and the password would go out in the clear",
                'only on a machine of your own: tls = "none"',
            )
        self._fail("the user or the password is refused", "look at user and password in whenvoca.toml")

    def _not_connected(self, error: Any) -> None:
        if isinstance(error, ssl.SSLError):
            said = getattr(error, "verify_message", "") or error.reason or error
            self._fail(f"its certificate is not trusted: {said}", 'if it is your own: ca = "own-ca.pem" at the place')
            self.abort()
            return
        self._fail("cannot be reached" + (f": {error}" if str(error) else ""), is_passing=True)

    async def _start(self, _: Any) -> None:
        if self._is_person:
            self.send_presence(ppriority=-1)  # to hear what their other programs show
            await self.ping_server()
            self.send_presence(ptype="unavailable")
        else:
            self.send_presence()
        self.is_up = True
        if not self._ready.done():
            self._ready.set_result(None)

    def _down(self, _: Any) -> None:
        self.is_up = False
        self.joined.clear()
        self.heard_rooms.clear()
        self.is_listening = False
        self.wake()
        self._fail("the connection was ended", is_passing=True)
        for waiting in self._echoes.values():
            if not waiting.done():
                waiting.set_exception(PlaceTrouble("the connection was ended", where=self.where, is_passing=True))

    def _echoed(self, message: Any) -> None:
        waiting = self._echoes.get(str(message["id"]))
        if waiting is not None and not waiting.done():
            waiting.set_result(None)

    def _came(self, message: Any) -> None:
        """A message of somebody, of now or of before."""
        if message["type"] in ("chat", "normal", "groupchat"):
            self._take(message, "", None)

    def _take(self, message: Any, archived: str, sent: Any) -> None:
        sender, in_room = message["from"], message["type"] == "groupchat"
        is_ours = sender.resource in ("", self._settings.nickname) if in_room else sender.bare == self.boundjid.bare
        if is_ours or (not in_room and sender.bare in self.joined | self.heard_rooms):
            return
        who = sender.full if in_room else sender.bare
        if taken_back := retracted_by(message):
            self._arrived.pop(self._keys.get((who, taken_back), ""), None)
        servers = (self._settings.domain, *((sender.bare, sender.domain) if in_room else ()))
        said = read_said(message, lambda name: name in servers)
        if said is None:
            return
        corrected = self._keys.get((who, said.corrects), "") if said.corrects else ""
        if corrected in self._arrived:  # nobody has read it yet: it says this now
            self._arrived[corrected] = replace(self._arrived[corrected], text=said.text, sound=said.sound)
            self._keys[who, said.number] = corrected
            return
        sent = sent or said.sent
        key = (
            f"{sender.bare} "
            f"{archived or message['stanza_id']['id'] or self._numbers.number(who, said, sent or self._clock.now())}"
        )
        self._keys[who, said.number] = key
        real = self._real_address(message, archived) if in_room else sender.bare
        room = sender.bare if in_room else ""
        self._arrived.setdefault(key, Arrived(key, real, room, said.text, sent, said.sound, said.number, said.corrects))
        self.wake()

    def _real_address(self, message: Any, archived: str) -> str:
        """Who somebody in a room is; empty where the room hides it. An archive tells it of those who have left too."""
        sender = message["from"]
        told = message.xml.find(f"{_MUC_USER}x/{_MUC_USER}item")
        real = str(told.get("jid") or "") if told is not None and archived else ""
        real = real or str(self._plugins["xep_0045"].get_jid_property(sender.bare, sender.resource, "jid") or "")
        return real.partition("/")[0]

    def _left(self, stanza: Any) -> None:
        """We are not in that room any more: somebody has put us out, or the room was started anew."""
        room = stanza["from"]
        if stanza["type"] == "unavailable" and room.resource == self._settings.nickname:
            if room.bare in self.heard_rooms:
                codes = {each.get("code") for each in stanza.xml.iter(f"{_MUC_USER}status")}
                self.put_out[room.bare] = next((said for code, said in _PUT_OUT if code in codes), "came out of")
            self.joined.discard(room.bare)
            self.heard_rooms.discard(room.bare)
            self.wake()

    def take_arrived(self, at: datetime) -> list[Arrived]:
        """What came in since this was last asked, in order; what came just now came at that moment."""
        found, self._arrived = self._arrived, {}
        self._keys = dict(list(self._keys.items())[-_MOST_KNOWN:])
        return [replace(each, sent=at if each.sent is None else min(_aware(each.sent), at)) for each in found.values()]

    async def hear_room(self, room: str, nickname: str, since: datetime | None) -> None:
        """Joins a room to hear what is said in it, and what was said since then, as far as the server has kept it."""
        if room in self.joined:
            self.heard_rooms.add(room)
        else:
            await self.join(room, nickname, since)
            self.heard_rooms.add(room)
        if since is not None:
            await self._hear_archive(room, since)

    async def hear_own(self, since: datetime | None) -> None:
        """Hears what was said to us alone since then, as far as the server has kept it."""
        await self.ping_server()
        if since is not None:
            await self._hear_archive("", since)
        self.is_listening = True

    async def _hear_archive(self, room: str, since: datetime) -> None:
        """What the server's archive has kept (XEP-0313); nothing where it has none."""
        try:
            info = await self._plugins["xep_0030"].get_info(
                jid=room or self.boundjid.bare, timeout=self._settings.seconds
            )
            if "urn:xmpp:mam:2" not in info["disco_info"]["features"]:
                return
            async for each in self._plugins["xep_0313"].iterate(jid=room or None, start=since):
                result = each["mam_result"]
                message = result["forwarded"]["stanza"]
                if bool(room) == (message["type"] == "groupchat"):
                    self._take(message, str(result["id"]), result["forwarded"]["delay"]["stamp"])
        except (IqError, IqTimeout) as error:
            said = f"its archive does not answer: {error.condition}"
            raise PlaceTrouble(said, where=self.where, is_passing=True) from error

    def _refused(self, message: Any) -> None:
        number = str(message["id"])
        said = str(message["error"]["text"] or message["error"]["condition"])
        self._errors[number] = said
        waiting = self._echoes.get(number)
        if waiting is not None and not waiting.done():
            waiting.set_exception(RowFault(f"the message is refused: {said}", where=self.where))

    def _seen(self, stanza: Any) -> None:
        sender = stanza["from"]
        if sender.bare != self.boundjid.bare or sender.resource == self.boundjid.resource:
            return
        if stanza["type"] == "unavailable":
            self._others.pop(sender.resource, None)
            return
        show = stanza.xml.findtext("{jabber:client}show") or "free"
        self._others[sender.resource] = Presence("free" if show == "chat" else show, str(stanza["status"] or ""))

    def theirs(self) -> Presence:
        """What the account's other programs show; free where there is none."""
        return next(iter(self._others.values()), Presence())

    # --- what we say

    async def ready(self) -> None:
        """Waits until the session stands. Raises PlaceTrouble."""
        await asyncio.wait_for(self._ready, self._settings.seconds)

    async def ping_server(self) -> None:
        """Waits until the server has read everything before. Raises PlaceTrouble."""
        try:
            await self._plugins["xep_0199"].send_ping(self._settings.domain, timeout=self._settings.seconds)
        except IqError:
            return  # it answered, if only that it knows no pings
        except IqTimeout as error:
            raise PlaceTrouble("does not answer in time", where=self.where, is_passing=True) from error

    async def say(self, to: str, text: str, number: str) -> None:
        """A message to a person. Raises RowFault where the server refuses it."""
        message = self.make_message(to, mbody=text, mtype="chat")
        message["id"] = number
        message.send()
        await self.ping_server()
        if (said := self._errors.pop(number, None)) is not None:
            raise RowFault(f"the message to {to} is refused: {said}", where=self.where)

    async def join(self, room: str, nickname: str, since: datetime | None = None) -> None:
        """Joins a room, with what was said since then. Raises RowFault where there is none, or it is closed."""
        history: dict[str, Any] = {"maxstanzas": 0} if since is None else {"since": since}
        try:
            await self._plugins["xep_0030"].get_info(jid=room, timeout=self._settings.seconds)
            await self._plugins["xep_0045"].join_muc_wait(room, nickname, timeout=self._settings.seconds, **history)
        except PresenceError as error:
            why = "we are banned from it" if error.condition == "forbidden" else error.condition
            raise RowFault(f"the room {room} cannot be joined: {why}", where=self.where) from error
        except IqTimeout as error:
            raise PlaceTrouble("does not answer in time", where=self.where, is_passing=True) from error
        except XMPPError as error:
            raise RowFault(
                f"there is no room {room}: {error.condition}",
                where=self.where,
                fix="make it there, or correct its name in rooms",
            ) from error
        except TimeoutError as error:
            raise PlaceTrouble(f"the room {room} does not answer", where=self.where, is_passing=True) from error
        self.joined.add(room)

    async def say_in(self, room: str, text: str, number: str) -> None:
        """A message to a room we are in; its echo is the receipt."""
        waiting = self._echoes[number] = asyncio.get_running_loop().create_future()
        message = self.make_message(room, mbody=text, mtype="groupchat")
        message["id"] = number
        message.send()
        try:
            await asyncio.wait_for(waiting, self._settings.seconds)
        except TimeoutError as error:
            raise PlaceTrouble(
                f"the room {room} does not give the message back", where=self.where, is_passing=True
            ) from error
        finally:
            self._echoes.pop(number, None)

    async def show(self, presence: Presence | None) -> None:
        """Shows that; None: this connection shows nothing any more."""
        if presence is None:
            self.send_presence(ptype="unavailable")
        else:
            show = None if presence.show == "free" else presence.show
            self.send_presence(pshow=show, pstatus=f"{presence.symbol} {presence.status}".strip() or None, ppriority=-1)
        await self.ping_server()

    async def find_room_server(self, domain: str) -> str:
        """The server of rooms that a domain names (XEP-0030). Raises RowFault where it names none."""
        items = await self._plugins["xep_0030"].get_items(jid=domain, timeout=self._settings.seconds)
        for jid, _, _ in items["disco_items"]["items"]:
            info = await self._plugins["xep_0030"].get_info(jid=jid, timeout=self._settings.seconds)
            if any(category == "conference" for category, *_ in info["disco_info"]["identities"]):
                return str(jid)
        raise RowFault(
            f"{domain} names no server of rooms", where=self.where, fix='say it: room-server = "rooms.example.org"'
        )

    async def end(self) -> None:
        """Ends the connection."""
        if self.is_up:
            await self.disconnect(wait=1.0)


async def connect(jid: str, password: str, settings: XmppSettings, place: str, *, is_person: bool) -> Client:
    """A client with its session. Raises PlaceTrouble where it cannot be had."""
    client = Client(jid, password, settings, place, is_person=is_person)
    client.connect(settings.host, settings.port)
    try:
        await client.ready()
    except TimeoutError as error:
        client.abort()
        raise PlaceTrouble("does not answer in time", where=client.where, is_passing=True) from error
    except PlaceTrouble:
        client.abort()
        raise
    return client
