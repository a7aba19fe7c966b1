"""A calendar on a CalDAV server (RFC 4791): written with preconditions, looked at by sync token (RFC 6578)."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime
from urllib.parse import quote, unquote, urljoin, urlsplit
from zoneinfo import ZoneInfo

from whenvoca.calendars.event import Event
from whenvoca.calendars.patch import has_event
from whenvoca.calendars.reader import Noun, Reading, read_calendar
from whenvoca.calendars.recurrence import expand_events
from whenvoca.calendars.state import split_key
from whenvoca.calendars.writer import write_calendar
from whenvoca.engine.effects import Effect, Receipt
from whenvoca.engine.lineage import Lineage
from whenvoca.engine.place_protocols import Calendar, CalendarChanges, Resource, StoredEvent
from whenvoca.errors import PlaceTrouble, SettingsFault, SourceFault, WhenvocaError
from whenvoca.language.definitions import PlaceInfo
from whenvoca.language.faults import nearest
from whenvoca.places.calendar.dav_client import CALDAV, CALSERVER, DAV, NAMES, DavClient, DavResource
from whenvoca.places.calendar.ics_effects import already_done, carry_out, moved_on, refuse_unread, to_stored

_AT_ONCE = 6  # requests that are under way together
_PER_MULTIGET = 100
_MOST_NUMBERS = 8  # how many things of a lineage are looked for by their names
_ICAL = {"content-type": "text/calendar; charset=utf-8"}
_ETAG, _DATA = f"{{{DAV}}}getetag", f"{{{CALDAV}}}calendar-data"
_NO_SYNC = (400, 403, 405, 409, 410, 415, 501, 507)  # a token that is forgotten, or a server without sync


class DavCalendar(Calendar):
    """One calendar of a server, found by its name."""

    def __init__(
        self,
        name: str,
        client: DavClient,
        calendar: str,
        zone: ZoneInfo,
        *,
        clash: str = "allow",
        readonly: bool = False,
        noun: Noun = "event",
    ) -> None:
        self._noun: Noun = noun
        self.kind = "tasks" if noun == "task" else "calendar"
        self.name, self.zone, self.clash = name, zone, clash
        self.client = client
        self._wanted = calendar
        self.address = f"{client.server} {calendar}".strip()
        self._readonly = readonly
        self._url = ""
        self._names: dict[str, str] | None = None  # ETags by address, as listed in this process
        self._by_uid: dict[str, str] = {}  # addresses of pieces that do not carry our names

    # --- finding the calendar

    @property
    def url(self) -> str:
        """The address of the collection. Raises PlaceTrouble, or SettingsFault if the server has no such calendar."""
        if not self._url:
            self._url = self._discover()
        return self._url

    def _discover(self) -> str:
        """By RFC 6764 and 4791 6.2.1: the user's principal, its home of calendars, the calendar of that name."""
        asked = (f"{{{DAV}}}current-user-principal", f"{{{DAV}}}resourcetype", f"{{{DAV}}}displayname")
        starts = [self.client.base]
        if urlsplit(self.client.base).path in ("", "/"):
            starts.insert(0, urljoin(self.client.base, "/.well-known/caldav"))
        principal = ""
        for start in starts:
            for piece in self.client.propfind(start, asked):
                if self._is_calendar(piece) and (not self._wanted or self._is_named(piece)):
                    return _folder(piece.href)
                principal = principal or _href_in(piece, asked[0])
            if principal:
                break
        if not principal:
            raise PlaceTrouble(
                "tells no user's principal", where=self._where, fix="is this the address of the CalDAV server?"
            )
        homes = self.client.propfind(principal, (f"{{{CALDAV}}}calendar-home-set",))
        home = next((found for piece in homes if (found := _href_in(piece, f"{{{CALDAV}}}calendar-home-set"))), "")
        if not home:
            raise PlaceTrouble("tells no home of calendars", where=self._where)
        calendars = {
            self._name_of(each): each
            for each in self.client.propfind(home, asked[1:], depth=1)
            if self._is_calendar(each)
        }
        for piece in calendars.values():
            if self._is_named(piece):
                return _folder(piece.href)
        fix = nearest(self._wanted, list(calendars)) or "there are none"
        raise SettingsFault(f'there is no calendar "{self._wanted}" on the server', where=self._where, fix=fix)

    @property
    def _where(self) -> str:
        return f"{self.name}, {self.client.host}"

    def _is_calendar(self, piece: DavResource) -> bool:
        kinds = piece.properties.get(f"{{{DAV}}}resourcetype")
        return kinds is not None and kinds.find("c:calendar", NAMES) is not None

    def _name_of(self, piece: DavResource) -> str:
        return piece.text(f"{{{DAV}}}displayname") or _last_name(piece.href)

    def _is_named(self, piece: DavResource) -> bool:
        wanted = self._wanted.casefold()
        return wanted in (self._name_of(piece).casefold(), _last_name(piece.href).casefold())

    def holds(self) -> str:
        count = len(self._listed())
        self.address = unquote(self.url)
        return f"{count} {self._noun}{'s' * (count != 1)}"

    def info(self) -> PlaceInfo:
        return PlaceInfo(name=self.name, kind=self.kind, zone=self.zone.key, readonly=self._readonly)

    def sends_invitations(self) -> bool:
        """Whether the server sends invitations and their answers by itself (RFC 6638 2)."""
        announced = self.client.request("OPTIONS", self.url).headers.get("dav", "")
        return "calendar-auto-schedule" in {each.strip().lower() for each in announced.split(",")}

    # --- reading

    def _listed(self) -> dict[str, str]:
        """The addresses of all pieces with their ETags, listed once in a process and kept up with our own writes."""
        if self._names is None:
            pieces = self.client.propfind(self.url, (_ETAG,), depth=1)
            own = _path(self.url)
            self._names = {_path(each.href): each.text(_ETAG) for each in pieces if _path(each.href) != own}
        return self._names

    def _address(self, uid: str) -> str:
        return _path(urljoin(self.url, quote(uid, safe="@") + ".ics"))

    def _find_address(self, uid: str) -> str:
        """The address of a UID's piece, empty if there is none: by our name, else the server is asked."""
        address = self._address(uid)
        if address in self._listed():
            return address
        if uid not in self._by_uid:
            pieces = self._query(_filter_uid(uid))
            self._by_uid[uid] = next((_path(piece.href) for piece, _ in pieces), "")
        return self._by_uid[uid]

    def _get(self, address: str) -> tuple[bytes, str] | None:
        answer = self.client.request("GET", address, allowed=(404, 410))
        if answer.status in (404, 410):
            return None
        return answer.content, answer.headers.get("etag", "")

    def find_event(self, uid: str) -> StoredEvent | None:
        """The event of that UID as it stands now."""
        address = self._find_address(uid)
        found = self._get(address) if address else None
        if found is None:
            if self._names is not None:
                self._names.pop(address, None)
            return None
        data, etag = found
        reading = self._read(data, address)
        refuse_unread(reading, uid, self._label(address))
        return to_stored(reading.events, uid, etag, urljoin(self.url, address), data)

    def text_of(self, uid: str) -> bytes:
        found = self._get(address) if (address := self._find_address(uid)) else None
        return found[0] if found else b""

    def _label(self, address: str) -> str:
        return f"{self.name}, {unquote(_last_name(address))}"

    def _read(self, data: bytes, address: str) -> Reading:
        return read_calendar(data, self.zone, file=self._label(address), noun=self._noun)

    def find_marked(self, mark: str) -> StoredEvent | None:
        lineage = Lineage.from_mark(mark)
        if lineage is None:
            return None
        for number in range(1, _MOST_NUMBERS + 1):
            uid = lineage.to_uid(number)
            if (
                self._address(uid) in self._listed()
                and (stored := self.find_event(uid))
                and stored.event.origin == mark
            ):
                return stored
        return None

    def find_between(self, low: datetime, high: datetime) -> list[Event]:
        span = f'<C:time-range start="{_utc(low)}" end="{_utc(high)}"/>'
        left_out: dict[str, str] = {}
        pieces = [event for _, events in self._query(span) for event in events]
        found = expand_events(pieces, low, high, self.zone, left_out)
        self.unread = [*self.unread, *(f"{self.name}: {said}" for said in left_out.values())]
        return found

    def all_events(self) -> list[Event]:
        return [event for _, events in self._query("") for event in events]

    def find_marks(self, prefix: str) -> dict[str, str]:
        return {event.origin: event.uid for event in self.all_events() if event.origin.startswith(prefix)}

    def address_of(self, uid: str) -> str:
        known = self._by_uid.get(uid)
        return urljoin(self.url, known or self._address(uid))

    def _query(self, inner: str) -> list[tuple[DavResource, list[Event]]]:
        """A calendar-query (RFC 4791 7.8) for events that fit a filter, with their data."""
        from lxml import etree

        component = "VTODO" if self._noun == "task" else "VEVENT"
        body = etree.fromstring(
            f'<C:calendar-query xmlns="{DAV}" xmlns:C="{CALDAV}"><prop><getetag/><C:calendar-data/></prop><C:filter>'
            f'<C:comp-filter name="VCALENDAR"><C:comp-filter name="{component}">{inner}</C:comp-filter></C:comp-filter>'
            "</C:filter></C:calendar-query>"
        )
        answer = self.client.report(self.url, body)
        self.unread = []
        return [
            (piece, self._events_in(piece, self.unread))
            for piece in self.client.read_multistatus(answer)
            if piece.text(_DATA)
        ]

    def _events_in(self, piece: DavResource, unread: list[str]) -> list[Event]:
        """The events of a piece; what cannot be used goes into ``unread``."""
        try:
            reading = self._read(piece.text(_DATA).encode(), piece.href)
        except SourceFault as fault:
            unread.append(str(fault))
            return []
        unread += [each.said(self._label(piece.href)) for each in reading.unread]
        return reading.events

    # --- looking

    def look(self, known: Mapping[str, Resource], cursor: str) -> CalendarChanges:
        """What changed since the last look: by sync token, else by ctag and ETags; changes are fetched together."""
        state: dict[str, str] = json.loads(cursor) if cursor.startswith("{") else {}
        if not self._url and state.get("url", "").startswith(_origin(self.client.base)):
            self._url = state["url"]
        look = CalendarChanges(cursor="")
        changed, gone, token, ctag = self._changes(known, state)
        look.cursor = json.dumps({"url": self.url, "token": token, "ctag": ctag})
        look.gone = [name for name in gone if name in known]
        wanted = [
            name for name, etag in changed.items() if name not in known or known[name].version != etag or not etag
        ]
        for begin in range(0, len(wanted), _PER_MULTIGET):
            for piece in self._multiget(wanted[begin : begin + _PER_MULTIGET]):
                name = _path(piece.href)
                if piece.status == 404:
                    look.gone += [name] if name in known else []
                    continue
                if events := self._events_in(piece, look.faults):
                    look.changed[name] = (Resource(events[0].uid, piece.text(_ETAG)), events)
                    if name != self._address(events[0].uid):
                        self._by_uid[events[0].uid] = name
        return look

    def _changes(
        self, known: Mapping[str, Resource], state: Mapping[str, str]
    ) -> tuple[dict[str, str], list[str], str, str]:
        """ETags of pieces that may have changed, pieces that are gone, the new token and ctag."""
        synced = self._sync(state.get("token", ""))
        if synced is not None:
            return *synced, ""
        ctag = next(
            (p.text(f"{{{CALSERVER}}}getctag") for p in self.client.propfind(self.url, (f"{{{CALSERVER}}}getctag",))),
            "",
        )
        if ctag and ctag == state.get("ctag"):
            return {}, [], "", ctag
        self._names = None
        listed = self._listed()
        fresh = self._sync("") if state.get("token") else None  # a token of the server's for the next time
        return dict(listed), [name for name in known if name not in listed], fresh[2] if fresh else "", ctag

    def _sync(self, token: str) -> tuple[dict[str, str], list[str], str] | None:
        """A sync-collection (RFC 6578 3.2); None where the server has none, or has forgotten the token."""
        from lxml import etree

        body = etree.fromstring(
            "<sync-collection "
            f'xmlns="{DAV}"><sync-token/><sync-level>1</sync-level><prop><getetag/></prop></sync-collection>'
        )
        body[0].text = token
        answer = self.client.report(self.url, body, depth=0, allowed=_NO_SYNC)
        if answer.status != 207:
            return None
        changed, gone = {}, []
        for piece in self.client.read_multistatus(answer):
            name = _path(piece.href)
            if piece.status == 404:
                gone.append(name)
            elif name != _path(self.url):
                changed[name] = piece.text(_ETAG)
        return changed, gone, self.client.parse(answer).findtext("d:sync-token", "", NAMES)

    def _multiget(self, names: Sequence[str]) -> list[DavResource]:
        from lxml import etree

        body = etree.fromstring(
            f'<C:calendar-multiget xmlns="{DAV}" '
            f'xmlns:C="{CALDAV}"><prop><getetag/><C:calendar-data/></prop></C:calendar-multiget>'
        )
        for name in names:
            etree.SubElement(body, f"{{{DAV}}}href").text = name
        return list(self.client.read_multistatus(self.client.report(self.url, body)))

    def resource_of(self, uid: str, version: str) -> tuple[str, Resource] | None:
        """The piece of the event, which we have just written."""
        return (self._by_uid.get(uid) or self._address(uid), Resource(uid, version)) if version else None

    # --- writing

    def apply(self, effects: Sequence[Effect], stamp: datetime) -> list[Receipt | WhenvocaError]:
        """Writes a group, several requests under way together; those of one event one after the other."""
        self._listed()
        groups: dict[str, list[int]] = {}
        for index, effect in enumerate(effects):
            groups.setdefault(split_key(effect.target)[0], []).append(index)
        results: dict[int, Receipt | WhenvocaError] = {}

        def work(indexes: list[int]) -> None:
            for index in indexes:
                results[index] = self._apply_one(effects[index], stamp)

        with ThreadPoolExecutor(_AT_ONCE) as pool:
            list(pool.map(work, groups.values()))
        return [results[index] for index in range(len(effects))]

    def _apply_one(self, effect: Effect, stamp: datetime) -> Receipt | WhenvocaError:
        try:
            if effect.action == "take":
                return Receipt(effect.stored.version, effect.stored.address)
            if effect.action == "create":
                return self._create(effect, stamp)
            return self._change(effect, stamp)
        except (PlaceTrouble, SourceFault, SettingsFault) as error:
            return error

    def _create(self, effect: Effect, stamp: datetime) -> Receipt | WhenvocaError:
        assert effect.event is not None
        address = self._address(effect.event.uid)
        headers = {**_ICAL, "if-none-match": "*"}
        answer = self.client.request(
            "PUT", address, write_calendar(effect.event, stamp), headers, allowed=(403, 409, 412)
        )
        if answer.status < 400:
            return self._receipt(address, answer.headers.get("etag", ""))
        stored = self.find_event(effect.target)  # as after a crash, or a connection cut behind the body
        if stored is not None and stored.event.origin == effect.lineage:
            return Receipt(stored.version, stored.address)
        if answer.status == 412 or stored is not None:
            return PlaceTrouble("stands there already and is not ours", where=f"{self.name}, {effect.target}")
        return PlaceTrouble(
            f"does not take the event: {answer.status} {_precondition(answer.content)}".strip(), where=self._where
        )

    def _change(self, effect: Effect, stamp: datetime) -> Receipt | WhenvocaError:
        uid, occurrence = split_key(effect.target)
        stored: StoredEvent | None = effect.stored
        address = self._find_address(uid) or self._address(uid)
        if effect.action == "put back" and occurrence:
            stored = self.find_event(uid)
        data = stored.data if stored is not None else b""
        changed = carry_out(data, effect, stamp, self.zone)
        condition = {"if-match": stored.version} if stored is not None else {"if-none-match": "*"}
        if changed and has_event(changed, uid):
            answer = self.client.request("PUT", address, changed, {**_ICAL, **condition}, allowed=(403, 404, 409, 412))
        else:
            answer = self.client.request("DELETE", address, headers=condition, allowed=(404, 409, 410, 412))
            if answer.status < 400 or answer.status in (404, 410):
                self._listed().pop(address, None)
                self._by_uid.pop(uid, None)
                return Receipt("", "")
        if answer.status < 400:
            return self._receipt(address, answer.headers.get("etag", ""))
        now = self._get(address)
        text, etag = now if now is not None else (b"", "")
        if already_done(text, effect, self.zone) == "done":
            return Receipt(etag, urljoin(self.url, address))
        if answer.status in (404, 409, 412):
            return moved_on(effect, self._where)
        return PlaceTrouble(
            f"does not take the change: {answer.status} {_precondition(answer.content)}".strip(), where=self._where
        )

    def _receipt(self, address: str, etag: str) -> Receipt:
        if not etag:  # some servers keep something else than they were given, and tell its ETag only when asked
            found = self._get(address)
            etag = found[1] if found is not None else ""
        if self._names is not None:
            self._names[address] = etag
        return Receipt(etag, urljoin(self.url, address))


def _precondition(content: bytes) -> str:
    """The precondition that a server names as not fulfilled."""
    from lxml import etree

    try:
        root = etree.fromstring(content, etree.XMLParser(resolve_entities=False, no_network=True))
    except etree.XMLSyntaxError:
        return ""
    return str(root[0].tag).rpartition("}")[2] if len(root) else ""


def _filter_uid(uid: str) -> str:
    from xml.sax.saxutils import escape

    return f'<C:prop-filter name="UID"><C:text-match collation="i;octet">{escape(uid)}</C:text-match></C:prop-filter>'


def _href_in(piece: DavResource, name: str) -> str:
    element = piece.properties.get(name)
    href = element.findtext("d:href", "", NAMES).strip() if element is not None else ""
    return urljoin(piece.href, href) if href else ""


def _folder(url: str) -> str:
    return url if url.endswith("/") else url + "/"


def _path(url: str) -> str:
    """The path of an address in one spelling, to be compared."""
    return quote(unquote(urlsplit(url).path), safe="/@")


def _last_name(url: str) -> str:
    return unquote(urlsplit(url).path.rstrip("/").rpartition("/")[2])


def _origin(url: str) -> str:
    parts = urlsplit(url)
    return f"{parts.scheme}://{parts.netloc}/"


def _utc(moment: datetime) -> str:
    return f"{moment.astimezone(UTC):%Y%m%dT%H%M%SZ}"
