"""When somebody is busy, as a server tells it: of a calendar (RFC 4791 7.10), or of a person (RFC 6638 5)."""

from __future__ import annotations

import re
import uuid
from datetime import UTC, datetime
from urllib.parse import urljoin

from whenvoca.calendars.free_busy import FreeBusy, read_free_busy
from whenvoca.calendars.writer import PRODUCT, join_lines
from whenvoca.errors import PlaceTrouble, SourceFault
from whenvoca.places.calendar.dav_client import CALDAV, NAMES, DavClient
from whenvoca.places.calendar.finding_calendar import find_principal, href_in

_OUTBOX, _OWN = f"{{{CALDAV}}}schedule-outbox-URL", f"{{{CALDAV}}}calendar-user-address-set"
_MAIL = re.compile(r"mailto:", re.IGNORECASE)


def report_busy_times(client: DavClient, url: str, low: datetime, high: datetime, where: str) -> FreeBusy:
    """The busy times of a calendar between two moments; the right to see no more than these is enough.

    Raises PlaceTrouble where the server is away or refuses, SourceFault where it answers something else.
    """
    from lxml import etree

    body = etree.Element(f"{{{CALDAV}}}free-busy-query")
    etree.SubElement(body, f"{{{CALDAV}}}time-range", start=_stamp(low), end=_stamp(high))
    answer = client.report(url, body)
    if answer.status != 200:
        raise PlaceTrouble(f"does not tell when it is busy: {answer.said}", where=where)
    return FreeBusy(low, high, read_free_busy(answer.content, where).busy)


def ask_busy_times(client: DavClient, address: str, low: datetime, high: datetime, where: str) -> FreeBusy:
    """The busy times of the person with that address, by the outbox of the server's user.

    Raises PlaceTrouble where the server is away or has none, SourceFault where it does not know the person.
    """
    outbox, own = _outbox_of(client, where)
    uid = uuid.uuid5(uuid.NAMESPACE_URL, f"mailto:{address} {_stamp(low)} {_stamp(high)}")  # nothing is kept of it
    text = [
        *("BEGIN:VCALENDAR", "VERSION:2.0", PRODUCT, "METHOD:REQUEST", "BEGIN:VFREEBUSY", f"UID:{uid}"),
        *(f"DTSTAMP:{_stamp(low)}", f"DTSTART:{_stamp(low)}", f"DTEND:{_stamp(high)}"),
        *(f"ORGANIZER:mailto:{own}", f"ATTENDEE:mailto:{address}", "END:VFREEBUSY", "END:VCALENDAR"),
    ]
    answer = client.request("POST", outbox, join_lines(text), {"content-type": "text/calendar; charset=utf-8"})
    for response in client.parse(answer).iterfind("c:response", NAMES):
        recipient = response.findtext("c:recipient/d:href", "", NAMES).strip()
        if _MAIL.sub("", recipient).lower() != address.lower():
            continue
        status = response.findtext("c:request-status", "", NAMES).strip()
        data = response.findtext("c:calendar-data", "", NAMES).strip()
        if not data:
            raise SourceFault(f"does not tell when {address} is busy: {status or 'nothing is said'}", where=where)
        told = read_free_busy(data.encode(), where)
        return FreeBusy(told.begin or low, told.end or high, told.busy)
    raise SourceFault(f"does not tell when {address} is busy", where=where)


def _outbox_of(client: DavClient, where: str) -> tuple[str, str]:
    """Where the server takes such questions, and the user's own address, from whom they come."""
    principal = find_principal(client)
    for piece in client.propfind(principal, (_OUTBOX, _OWN)) if principal else ():
        outbox = href_in(piece, _OUTBOX)
        known = piece.properties.get(_OWN)
        own = [each.text or "" for each in known.iterfind("d:href", NAMES)] if known is not None else []
        mails = [_MAIL.sub("", each.strip()) for each in own if _MAIL.match(each.strip())]
        if outbox and mails:
            return urljoin(client.base, outbox), mails[0]
    raise PlaceTrouble(
        "is a server that is not asked when people are busy (RFC 6638)",
        where=where,
        fix='name a calendar of theirs: free-busy = { calendar = "…" }',
    )


def _stamp(moment: datetime) -> str:
    return f"{moment.astimezone(UTC):%Y%m%dT%H%M%SZ}"
