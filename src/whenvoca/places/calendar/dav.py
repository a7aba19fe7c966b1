"""A calendar on a CalDAV server (RFC 4791): written with preconditions, looked at by sync token (RFC 6578)."""

from __future__ import annotations

import json
import re
from collections.abc import Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime
from urllib.parse import quote, unquote, urljoin, urlsplit
from zoneinfo import ZoneInfo

from whenvoca.calendars.event import Event
from whenvoca.calendars.free_busy import FreeBusy
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
from whenvoca.places.bounded_answer import Answer
from whenvoca.places.calendar.dav_bodies import (
    DATA,
    ETAG,
    filter_uid,
    is_whole,
    multiget_body,
    precondition_in,
    query_body,
    sync_body,
)
from whenvoca.places.calendar.dav_client import CALSERVER, NAMES, DavClient, DavResource
from whenvoca.places.calendar.dav_free_busy import ask_busy_times, report_busy_times
from whenvoca.places.calendar.finding_calendar import find_calendar, last_name
from whenvoca.places.calendar.ics_effects import already_done, carry_out, moved_on, refuse_unread, to_stored
from whenvoca.places.calendar.scheduling import Scheduling

_AT_ONCE = 6  # requests that are under way together
_PER_MULTIGET = 100
_MOST_NUMBERS = 8  # how many things of a lineage are looked for by their names
_ICAL = {"content-type": "text/calendar; charset=utf-8"}
_WRITTEN = (201, 204)  # what a conforming server answers to a PUT (RFC 9110 9.3.4); anything else is looked at
_MOST_CHANGES = 3  # of a piece while it is read
_MARK = b"\xef\xbb\xbf"  # of byte order, which some programs write
_OUR_NAME = re.compile(r"/[0-9a-f]{8}-[0-9a-f]{4}-5[0-9a-f]{3}-[0-9a-f]{4}-[0-9a-f]{12}\.ics$")  # a UID of a lineage
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
        self.client, self.scheduling = client, Scheduling(client, lambda: self.url)
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
            self._url = find_calendar(self.client, self._wanted, self._where)
        return self._url

    @property
    def _where(self) -> str:
        return f"{self.name}, {self.client.host}"

    def holds(self) -> str:
        count = len(self._listed())
        self.address = unquote(self.url)
        return f"{count} {self._noun}{'s' * (count != 1)}"

    def info(self) -> PlaceInfo:
        return PlaceInfo(name=self.name, kind=self.kind, zone=self.zone.key, readonly=self._readonly)

    # --- reading

    def busy_times(self, low: datetime, high: datetime) -> FreeBusy:
        return report_busy_times(self.client, self.url, low, high, self._where)

    def busy_times_of(self, address: str, low: datetime, high: datetime) -> FreeBusy:
        return ask_busy_times(self.client, address, low, high, self._where)

    def _listed(self) -> dict[str, str]:
        """The addresses of all pieces with their ETags, listed once in a process and kept up with our own writes."""
        if self._names is None:
            pieces = {_path(each.href): each for each in self.client.propfind(self.url, (ETAG,), depth=1)}
            own = pieces.pop(_path(self.url), None)
            if own is None or own.status >= 300:
                raise PlaceTrouble("does not list the calendar itself, so the list may be none", where=self._where)
            self._names = {name: each.text(ETAG) for name, each in pieces.items()}
        return self._names

    def _address(self, uid: str) -> str:
        return _path(urljoin(self.url, quote(uid, safe="@") + ".ics"))

    def _find_address(self, uid: str) -> str:
        """The address of a UID's piece, empty if there is none: by our name, else the server is asked."""
        address = self._address(uid)
        if address in self._listed():
            return address
        if all(_OUR_NAME.search(name) for name in self._listed()):
            return ""  # nothing stands under a name of another program's, and a filter costs a look into every piece
        if uid not in self._by_uid:
            pieces = self._query(filter_uid(uid))
            self._by_uid[uid] = next((_path(piece.href) for piece, _ in pieces), "")
        return self._by_uid[uid]

    def _get(self, address: str) -> tuple[bytes, str] | None:
        """The text of a piece and the ETag to change it on; None where it is certain that there is none."""
        for _ in range(_MOST_CHANGES):
            answer = self.client.request("GET", address, allowed=(404, 410))
            if answer.status in (404, 410):
                if self._is_gone(address):
                    return None
                raise self._disbelieved(answer, "and lists the event all the same")
            if answer.status != 200 or not answer.content.removeprefix(_MARK).lstrip().upper().startswith(
                b"BEGIN:VCALENDAR"
            ):
                raise self._disbelieved(answer, "and no calendar")
            etag, text = answer.headers.get("etag", ""), answer.content.removeprefix(_MARK)
            if not is_whole(text):
                break
            if etag.startswith('"'):
                return text, etag
            etag = self._listed_etag(address)  # none, or a weak one of a program in front of the server
            if self._text_now(address) == text:
                return text, etag
        said = "gives another text each time" if is_whole(text) else "gives only a part of the text"
        raise PlaceTrouble(said, where=self._label(address), is_passing=True)

    def _text_now(self, address: str) -> bytes:
        return self.client.request("GET", address, allowed=(404, 410)).content.removeprefix(_MARK)

    def _listed_etag(self, address: str) -> str:
        """The ETag of a piece as the server itself tells it, whatever a program in front of it makes of headers."""
        return next((piece.text(ETAG) for piece in self.client.propfind(address, (ETAG,))), "")

    def _is_gone(self, address: str) -> bool:
        """Whether there is no such piece, by the server's own word; a 404 may come from a program in front of it."""
        for piece in self._multiget([address]):
            if _path(piece.href) == address:
                return piece.status in (404, 410)
        self._names = None
        return address not in self._listed()

    def _disbelieved(self, answer: Answer, what: str) -> PlaceTrouble:
        said = f"answers {answer.said} {what}"
        return PlaceTrouble(said, where=self._where, fix="it is asked again with the next run", is_passing=True)

    def find_event(self, uid: str) -> StoredEvent | None:
        """The event of that UID as it stands now."""
        address = self._find_address(uid)
        found = self._get(address) if address else None
        if found is None:
            if self._names is not None:
                self._names.pop(address, None)
            return None
        return self._stored(uid, address, *found)

    def _stored(self, uid: str, address: str, data: bytes, etag: str) -> StoredEvent | None:
        reading = self._read(data, address)
        refuse_unread(reading, uid, self._label(address))
        return to_stored(reading.events, uid, etag, urljoin(self.url, address), data)

    def text_of(self, uid: str) -> bytes:
        address = self._find_address(uid)
        return ((address and self._get(address)) or (b"", ""))[0]

    def _label(self, address: str) -> str:
        return f"{self.name}, {unquote(last_name(address))}"

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
        body = query_body("VTODO" if self._noun == "task" else "VEVENT", inner)
        answer = self.client.report(self.url, body)
        self.unread = []
        found = []
        for piece in self.client.read_multistatus(answer):
            if piece.text(DATA):
                found.append((piece, self._events_in(piece, self.unread)))
            elif piece.status != 404 and _path(piece.href) != _path(self.url):
                self.unread.append(f"{self._label(piece.href)}: the server does not give it{piece.trouble}")
        return found

    def _events_in(self, piece: DavResource, unread: list[str]) -> list[Event]:
        """The events of a piece; what cannot be used goes into ``unread``."""
        try:
            reading = self._read(piece.text(DATA).encode(), piece.href)
        except SourceFault as fault:
            unread.append(str(fault))
            return []
        unread += [each.said(self._label(piece.href)) for each in reading.unread]
        return reading.events

    # --- looking

    def look(self, known: Mapping[str, Resource], cursor: str) -> CalendarChanges:
        """What changed since the last look: by sync token, else by ctag and ETags; changes are fetched together."""
        state: dict[str, str] = json.loads(cursor) if cursor.startswith("{") else {}
        is_same = state.get("calendar") == self._wanted and state.get("server") == self.client.server
        if not self._url and is_same and self.client.is_own(state.get("url", "")):
            self._url = state["url"]
        if state.get("url") != self.url:
            state = {}  # a token is of its calendar
        look = CalendarChanges(cursor="")
        changed, gone, token, ctag, look.is_partial = self._changes(known, state)
        look.gone = [name for name in gone if name in known]
        wanted = [
            name for name, etag in changed.items() if name not in known or known[name].version != etag or not etag
        ]
        missing = set(wanted)
        for begin in range(0, len(wanted), _PER_MULTIGET):
            for piece in self._multiget(wanted[begin : begin + _PER_MULTIGET]):
                name = _path(piece.href)
                if piece.status in (404, 410):
                    look.gone += [name] if name in known else []
                    missing.discard(name)
                elif not piece.text(DATA):
                    look.faults.append(f"{self._label(name)}: the server does not give it{piece.trouble}")
                elif events := self._events_in(piece, look.faults):
                    missing.discard(name)
                    look.changed[name] = (Resource(events[0].uid, piece.text(ETAG)), events)
                    if name != self._address(events[0].uid):
                        self._by_uid[events[0].uid] = name
                elif is_whole(piece.text(DATA).encode()):  # it holds nothing of ours, or nothing that can be used
                    missing.discard(name)
        if missing:  # what was not given is asked for again: the place in the server's history stays where it was
            token, ctag, look.is_partial = state.get("token", ""), state.get("ctag", ""), False
        look.cursor = json.dumps(
            {"url": self.url, "calendar": self._wanted, "server": self.client.server, "token": token, "ctag": ctag}
        )
        return look

    def _changes(
        self, known: Mapping[str, Resource], state: Mapping[str, str]
    ) -> tuple[dict[str, str], list[str], str, str, bool]:
        """ETags of pieces that may have changed, pieces that are gone, the new token and ctag, and whether there is
        more."""
        synced = self._sync(state.get("token", ""))
        if synced is not None and synced[2]:
            changed, gone, token, is_partial = synced
            return changed, gone, token, "", is_partial
        ctag = next(
            (p.text(f"{{{CALSERVER}}}getctag") for p in self.client.propfind(self.url, (f"{{{CALSERVER}}}getctag",))),
            "",
        )
        if ctag and ctag == state.get("ctag"):
            return {}, [], "", ctag, False
        self._names = None
        listed = self._listed()
        fresh = self._sync("") if state.get("token") else None  # a token of the server's for the next time
        gone = [name for name in known if name not in listed]
        return dict(listed), gone, fresh[2] if fresh and not fresh[3] else "", ctag, False

    def _sync(self, token: str) -> tuple[dict[str, str], list[str], str, bool] | None:
        """A sync-collection (RFC 6578 3.2): what changed, what is gone, the next token, and whether there is more.

        None where the server has none, or has forgotten the token.
        """
        answer = self.client.report(self.url, sync_body(token), depth=0, allowed=_NO_SYNC)
        if answer.status in _NO_SYNC:
            return None
        changed, gone, is_partial = {}, [], False
        for piece in self.client.read_multistatus(answer):
            name = _path(piece.href)
            if name == _path(self.url):
                is_partial = piece.status == 507  # RFC 6578 3.6
            elif piece.status in (404, 410):
                gone.append(name)
            else:
                changed[name] = piece.text(ETAG)
        return changed, gone, self.client.parse(answer).findtext("d:sync-token", "", NAMES).strip(), is_partial

    def _multiget(self, names: Sequence[str]) -> list[DavResource]:
        return list(self.client.read_multistatus(self.client.report(self.url, multiget_body(names))))

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
        text = self.scheduling.prepared(write_calendar(effect.event, stamp), self.invite)
        answer = self.client.request("PUT", address, text, headers, allowed=(403, 409, 412))
        if answer.status in _WRITTEN:
            return self._receipt(address, answer.headers.get("etag", ""))
        found = self._get(address)  # as after a crash, or a connection cut behind the body
        stored = self._stored(effect.target, address, *found) if found is not None else None
        if stored is not None and stored.event.origin == effect.lineage:
            return self._receipt(address, stored.version)
        if answer.status == 412 or stored is not None:
            return PlaceTrouble("stands there already and is not ours", where=f"{self.name}, {effect.target}")
        return self._not_taken(answer, "event")

    def _change(self, effect: Effect, stamp: datetime) -> Receipt | WhenvocaError:
        uid, occurrence = split_key(effect.target)
        stored: StoredEvent | None = effect.stored
        address = self._find_address(uid) or self._address(uid)
        if effect.action == "put back" and occurrence:
            stored = self.find_event(uid)
        data = stored.data if stored is not None else b""
        changed = carry_out(data, effect, stamp, self.zone)
        if stored is not None and not stored.version:
            return PlaceTrouble(
                "tells no ETag, so a change could overwrite somebody's; nothing was changed", where=self._where
            )
        condition = {"if-match": stored.version} if stored is not None else {"if-none-match": "*"}
        answer = self._send(address, uid, changed, condition)
        if answer.status == 412 and stored is not None and (etag := self._unmoved(address, stored)):
            answer = self._send(address, uid, changed, {"if-match": etag})
            if answer.status == 412 and self._unmoved(address, stored):
                return PlaceTrouble(
                    "refuses the ETag that it tells itself: something in front of it changes ETags, so nothing can be "
                    "changed there",
                    where=self._where,
                )
        if not has_event(changed, uid):
            return self._deletion(answer, effect, address, uid)
        if answer.status in _WRITTEN:
            return self._receipt(address, answer.headers.get("etag", ""))
        text, etag = self._get(address) or (b"", "")
        if already_done(text, effect, self.zone) == "done":
            return self._receipt(address, etag)
        is_moved = text != (b"" if stored is None else stored.data)
        return moved_on(effect, self._where) if is_moved else self._not_taken(answer, "change")

    def _send(self, address: str, uid: str, changed: bytes, condition: Mapping[str, str]) -> Answer:
        if has_event(changed, uid):
            text = self.scheduling.prepared(changed, self.invite)
            return self.client.request("PUT", address, text, {**_ICAL, **condition}, allowed=(403, 404, 409, 412))
        return self.client.request("DELETE", address, headers=condition, allowed=(404, 409, 410, 412))

    def _unmoved(self, address: str, stored: StoredEvent) -> str:
        """The server's own ETag of a piece whose text is as it was decided on: nobody changed it, though its ETag is
        another one. It is asked for before the text, so that a change in between is noticed. Empty otherwise."""
        etag = self._listed_etag(address)
        return etag if self._text_now(address) == stored.data else ""

    def _deletion(self, answer: Answer, effect: Effect, address: str, uid: str) -> Receipt | WhenvocaError:
        if answer.status == 204 or (answer.status != 412 and self._is_gone(address)):
            if self._names is not None:
                self._names.pop(address, None)
            self._by_uid.pop(uid, None)
            return Receipt("", "")
        is_moved = effect.stored is not None and self._text_now(address) != effect.stored.data
        return moved_on(effect, self._where) if is_moved else self._not_taken(answer, "deletion")

    def _not_taken(self, answer: Answer, what: str) -> PlaceTrouble:
        """The trouble of a write that was answered, and is not there."""
        if answer.status < 400 or answer.status in (404, 410):
            return self._disbelieved(answer, f"to the {what}, which was not done")
        said = f"does not take the {what}: {answer.said} {precondition_in(answer.content)}".strip()
        return PlaceTrouble(said, where=self._where, is_refusal=answer.status != 423, is_passing=answer.status == 423)

    def _receipt(self, address: str, etag: str) -> Receipt:
        if not etag.startswith('"'):  # what is kept may be another text, whose ETag is told only when asked for
            _, etag = self._get(address) or (b"", "")
        if self._names is not None:
            self._names[address] = etag
        return Receipt(etag, urljoin(self.url, address))


def _path(url: str) -> str:
    """The path of an address in one spelling, to be compared."""
    return quote(unquote(urlsplit(url).path), safe="/@")


def _utc(moment: datetime) -> str:
    return f"{moment.astimezone(UTC):%Y%m%dT%H%M%SZ}"
