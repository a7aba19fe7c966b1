"""Finding a calendar on a CalDAV server by its name (RFC 6764, RFC 4791 6.2.1)."""

from __future__ import annotations

from collections.abc import Sequence
from urllib.parse import unquote, urljoin, urlsplit

from whenvoca.errors import PlaceTrouble, SettingsFault
from whenvoca.language.faults import nearest
from whenvoca.places.calendar.dav_client import CALDAV, DAV, NAMES, DavClient, DavResource, NoDav

_PRINCIPAL, _KIND, _NAME = f"{{{DAV}}}current-user-principal", f"{{{DAV}}}resourcetype", f"{{{DAV}}}displayname"
_HOME = f"{{{CALDAV}}}calendar-home-set"
_MOST_NAMED = 10


def find_calendar(client: DavClient, wanted: str, where: str) -> str:
    """The address of the calendar of that name: at the server's address, else in the home of the user's principal.

    Raises PlaceTrouble where the server tells none of that, SettingsFault where it has no such calendar.
    """
    principal = _find_principal(client, wanted)
    if isinstance(principal, DavResource):
        return _folder(principal.href)
    if not principal:
        raise PlaceTrouble("tells no user's principal", where=where, fix="is this the address of the CalDAV server?")
    homes = client.propfind(principal, (_HOME,))
    home = next((found for piece in homes if (found := href_in(piece, _HOME))), "")
    if not home:
        raise PlaceTrouble("tells no home of calendars", where=where)
    listed = client.propfind(home, (_KIND, _NAME), depth=1)
    calendars = [each for each in listed if _is_calendar(each)]
    for piece in calendars:
        if _is_named(piece, wanted):
            return _folder(piece.href)
    names = sorted({_name_of(each) for each in calendars})
    if not _is_listing_of(home, listed):
        said = f'may not list all of its calendars, and "{wanted}" is not among them'
        raise PlaceTrouble(said, where=where, fix=_listed(names), is_passing=True)
    raise SettingsFault(
        f'there is no calendar "{wanted}" on the server', where=where, fix=nearest(wanted, names) or _listed(names)
    )


def find_principal(client: DavClient) -> str:
    """The address of the user's principal, empty where the server tells none (RFC 5397). Raises PlaceTrouble."""
    found = _find_principal(client, None)
    assert isinstance(found, str)
    return found


def _find_principal(client: DavClient, wanted: str | None) -> str | DavResource:
    """The address of the user's principal, or the calendar itself where the server's address is that of one."""
    starts = [client.base]
    if urlsplit(client.base).path in ("", "/"):
        starts.insert(0, urljoin(client.base, "/.well-known/caldav"))
    principal = ""
    for start in starts:
        try:
            pieces = client.propfind(start, (_PRINCIPAL, _KIND, _NAME))
        except NoDav:
            if start == starts[-1]:
                raise
            continue
        for piece in pieces:
            if wanted is not None and _is_calendar(piece) and (not wanted or _is_named(piece, wanted)):
                return piece
            principal = principal or href_in(piece, _PRINCIPAL)
        if principal:
            break
    return principal


def _listed(names: list[str]) -> str:
    if not names:
        return "there are none"
    more = f" and {len(names) - _MOST_NAMED} more" if len(names) > _MOST_NAMED else ""
    return f"there are: {', '.join(names[:_MOST_NAMED])}{more}"


def _is_calendar(piece: DavResource) -> bool:
    kinds = piece.properties.get(_KIND)
    return kinds is not None and kinds.find("c:calendar", NAMES) is not None


def _name_of(piece: DavResource) -> str:
    return piece.text(_NAME) or last_name(piece.href)


def _is_named(piece: DavResource, wanted: str) -> bool:
    return wanted.casefold() in (_name_of(piece).casefold(), last_name(piece.href).casefold())


def href_in(piece: DavResource, name: str) -> str:
    """The address that a property names, empty where it names none."""
    element = piece.properties.get(name)
    href = element.findtext("d:href", "", NAMES).strip() if element is not None else ""
    return urljoin(piece.href, href) if href else ""


def _is_listing_of(home: str, listed: Sequence[DavResource]) -> bool:
    """Whether that is the home and what is in it, each with its kind."""
    paths = [_path(each.href) for each in listed]
    is_inside = _path(home) in paths and all(path.startswith(_path(home)) for path in paths)
    return is_inside and all(_KIND in each.properties for each in listed)


def _path(url: str) -> str:
    return unquote(urlsplit(url).path).rstrip("/")


def _folder(url: str) -> str:
    return url if url.endswith("/") else url + "/"


def last_name(url: str) -> str:
    """The last piece of an address's path, as people read it."""
    return unquote(urlsplit(url).path.rstrip("/").rpartition("/")[2])
