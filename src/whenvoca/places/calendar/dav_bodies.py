"""The bodies of CalDAV requests, and what stands in those of refusals (RFC 4791, RFC 6578)."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from whenvoca.places.calendar.dav_client import CALDAV, DAV

ETAG, DATA = f"{{{DAV}}}getetag", f"{{{CALDAV}}}calendar-data"
_HEAD = f'xmlns="{DAV}" xmlns:C="{CALDAV}"'


def query_body(component: str, inner: str) -> Any:
    """A calendar-query (RFC 4791 7.8) for components that fit a filter, with their data."""
    from lxml import etree

    return etree.fromstring(
        f"<C:calendar-query {_HEAD}><prop><getetag/><C:calendar-data/></prop><C:filter>"
        f'<C:comp-filter name="VCALENDAR"><C:comp-filter name="{component}">{inner}</C:comp-filter></C:comp-filter>'
        "</C:filter></C:calendar-query>"
    )


def multiget_body(names: Sequence[str]) -> Any:
    """A calendar-multiget (RFC 4791 7.9) of these addresses."""
    from lxml import etree

    body = etree.fromstring(
        f"<C:calendar-multiget {_HEAD}><prop><getetag/><C:calendar-data/></prop></C:calendar-multiget>"
    )
    for name in names:
        etree.SubElement(body, f"{{{DAV}}}href").text = name
    return body


def sync_body(token: str) -> Any:
    """A sync-collection (RFC 6578 3.2) since that token."""
    from lxml import etree

    body = etree.fromstring(
        "<sync-collection "
        f'xmlns="{DAV}"><sync-token/><sync-level>1</sync-level><prop><getetag/></prop></sync-collection>'
    )
    body[0].text = token
    return body


def filter_uid(uid: str) -> str:
    """The filter of a query for one UID."""
    from xml.sax.saxutils import escape

    return f'<C:prop-filter name="UID"><C:text-match collation="i;octet">{escape(uid)}</C:text-match></C:prop-filter>'


def precondition_in(content: bytes) -> str:
    """The precondition that a server names as not fulfilled."""
    from lxml import etree

    try:
        root = etree.fromstring(content, etree.XMLParser(resolve_entities=False, no_network=True))
    except etree.XMLSyntaxError:
        return ""
    return str(root[0].tag).rpartition("}")[2] if len(root) else ""


def is_whole(text: bytes) -> bool:
    """Whether the data of a piece are not cut off."""
    return text.strip().upper().endswith(b"END:VCALENDAR")
