"""WebDAV over HTTP: requests that wait politely, never carry the password to another host, and say what went wrong."""

from __future__ import annotations

import email.utils
import re
import weakref
from collections.abc import Callable, Iterator, Mapping, Sequence
from threading import Lock
from typing import Any
from urllib.parse import SplitResult, urljoin, urlsplit

from msgspec import Struct, field

from whenvoca.errors import PlaceTrouble, SettingsFault
from whenvoca.places.bounded_answer import MOST_BYTES, Answer, TooMuch, ask
from whenvoca.places.calendar.finding_server import find_server
from whenvoca.places.sign_in import Credential

DAV, CALDAV, CALSERVER = "DAV:", "urn:ietf:params:xml:ns:caldav", "http://calendarserver.org/ns/"
NAMES = {"d": DAV, "c": CALDAV, "cs": CALSERVER}
_TRIES = 3  # of one request, where the server is busy or does not answer
_LONGEST_PAUSE = 60.0  # a Retry-After beyond it is told instead of waited for
_MOST_REDIRECTS = 5
_NO_DAV = (404, 405)  # of an address where no WebDAV is
_XML = {"content-type": "application/xml; charset=utf-8"}
_DOMAIN = re.compile(r"(?!-)[A-Za-z0-9-]+(\.[A-Za-z0-9-]+)*")
_LOOPBACK = ("localhost", "127.0.0.1", "::1")


class DavResource(Struct, frozen=True):
    """One response of a multistatus (RFC 4918 14.24): an address, its own status, and the properties it has."""

    href: str
    status: int
    properties: Mapping[str, Any] = field(default_factory=dict)  # element by {namespace}name

    @property
    def trouble(self) -> str:
        """Its status for a message, where that says why something of it is missing."""
        return f" ({self.status})" if self.status >= 300 else ""

    def text(self, name: str) -> str:
        """The text of a property, empty where it has none."""
        element = self.properties.get(name)
        return (element.text or "").strip() if element is not None else ""


class NoDav(PlaceTrouble):
    """Something answers there, and not as WebDAV answers: nothing is known by it."""


class DavClient:
    """One server, one user. Safe to use from several threads. Raises PlaceTrouble where the server cannot be used."""

    def __init__(
        self,
        server: str,
        user: str,
        secret: Credential,
        *,
        wait: Callable[[float], None],
        name: str,
        ca: str = "",
        seconds: float = 30.0,
        nameserver: str = "",
        size: int = MOST_BYTES,
        also: Sequence[str] = (),
    ) -> None:
        self.server = server  # as it is written: an address, or a domain
        self._nameserver = nameserver
        self._base = server if "://" in server else ""
        self._user, self._secret = user, secret
        self._wait, self._name, self._ca, self._seconds = wait, name, ca, seconds
        self._size = size  # bytes of one answer
        self._also = {_origin_of(urlsplit(each)) for each in also}
        self._client: Any = None
        self._lock = Lock()
        self.requests = 0  # how many were sent, for tests and benchmarks

    @property
    def base(self) -> str:
        """The address of the server; a domain's is found by its records. Raises PlaceTrouble or SettingsFault."""
        if not self._base:
            if not _DOMAIN.fullmatch(self.server):
                raise SettingsFault(
                    f'"{self.server}" is no address of a server',
                    where=self._name,
                    fix='such as "https://dav.example.org/", or a domain: "example.org"',
                )
            self._base = find_server(self.server, self._name, nameserver=self._nameserver, seconds=self._seconds)
        return self._base

    @property
    def host(self) -> str:
        """The server as messages name it."""
        return urlsplit(self._base).netloc or self.server

    def _opened(self) -> Any:
        with self._lock:
            if self._client is None or self._client.is_closed:
                self._client = self._open()
                weakref.finalize(self, self._client.close)
        return self._client

    def _open(self) -> Any:
        import httpx

        address = urlsplit(self.base)
        if address.scheme not in ("http", "https") or not address.hostname:
            raise SettingsFault(
                f'"{self.base}" is no address of a server', where=self._name, fix="such as https://dav.example.org/"
            )
        password = self._secret.reveal()
        if address.scheme == "http" and password and address.hostname not in _LOOPBACK:
            raise SettingsFault(
                f"the password would go to {address.hostname} unencrypted",
                where=self._name,
                fix="write https:// before it",
            )
        import ssl

        try:
            verify: Any = ssl.create_default_context(cafile=self._ca) if self._ca else True
        except OSError as error:
            raise SettingsFault(
                f"the certificate authority {self._ca} cannot be read: {error}", where=self._name
            ) from error
        limits = httpx.Limits(max_connections=8, max_keepalive_connections=8)
        basic = httpx.BasicAuth(self._user, password) if self._user else None
        auth: Any = self._with_token if self._secret.is_token else basic
        return httpx.Client(
            auth=auth,
            verify=verify,
            timeout=self._seconds,
            limits=limits,
            follow_redirects=False,
            headers={"user-agent": "whenvoca"},
        )

    def _with_token(self, request: Any) -> Any:
        """The request with a token that holds still (RFC 6750)."""
        request.headers["authorization"] = f"Bearer {self._secret.reveal()}"
        return request

    # --- requests

    def request(
        self,
        method: str,
        url: str,
        content: bytes | str = b"",
        headers: Mapping[str, str] | None = None,
        allowed: tuple[int, ...] = (),
    ) -> Answer:
        """Sends it; tries again where the server is busy or does not answer. Statuses from 400 on raise PlaceTrouble
        unless they are allowed."""
        import httpx

        url = self._own_address(urljoin(self.base, url))
        for attempt in range(1, _TRIES + 1):
            try:
                self.requests += 1
                answer = self._follow(method, url, content, headers or {})
            except httpx.InvalidURL as error:
                raise PlaceTrouble(f"names an address that is none: {error}", where=self._where) from error
            except httpx.RequestError as error:
                if attempt == _TRIES:
                    raise self._unreachable(error) from error
                self._wait(0.2 * 4 ** (attempt - 1))
                continue
            if answer.status in (429, 500, 502, 503, 504) and answer.status not in allowed:
                pause = _retry_after(answer.headers, 0.2 * 4 ** (attempt - 1))
                if attempt < _TRIES and pause <= _LONGEST_PAUSE:
                    self._wait(pause)
                    continue
            return self._checked(answer, allowed)
        raise AssertionError("the last try answers or raises")

    @property
    def _where(self) -> str:
        return f"{self._name}, {self.host}"

    def _own_address(self, url: str) -> str:
        """The address, if user and password may be shown there: at the server itself, and at those that `also` names.

        What the server says of itself with http is asked with https, if that is how it was reached. Raises PlaceTrouble
        for any other address: an answer of the server is not believed where it leads elsewhere.
        """
        base, target = urlsplit(self.base), _split(url)
        if target is None:
            raise PlaceTrouble(f'names an address that is none: "{url[:80]}"', where=self._where)
        if target.hostname == base.hostname and (base.scheme, target.scheme) == ("https", "http"):
            target = target._replace(scheme="https", netloc=base.netloc)
        is_safer = (base.scheme, target.scheme) == ("http", "https") and target.port in (None, 443)
        is_own = target.hostname == base.hostname and (_origin_of(target) == _origin_of(base) or is_safer)
        if not is_own and _origin_of(target) not in self._also:
            raise PlaceTrouble(
                f"sends on to another server, {target.scheme}://{target.netloc}; the password is not given to it",
                where=self._where,
                fix=f'if that is right, say so at the place: also = ["{target.scheme}://{target.netloc}"]',
            )
        return target.geturl()

    def is_own(self, url: str) -> bool:
        """Whether it is an address of this server."""
        try:
            return bool(url) and self._own_address(url) == url
        except PlaceTrouble:
            return False

    def _follow(self, method: str, url: str, content: bytes | str, headers: Mapping[str, str]) -> Answer:
        for _ in range(_MOST_REDIRECTS):
            try:
                answer = ask(
                    self._opened(),
                    method,
                    url,
                    content=content,
                    headers=headers,
                    most=self._size,
                    seconds=self._seconds,
                )
            except TooMuch as trouble:
                raise TooMuch(trouble.message, where=self._where, fix=trouble.fix) from trouble
            if answer.status not in (301, 302, 303, 307, 308) or "location" not in answer.headers:
                return answer
            url = self._own_address(urljoin(url, answer.headers["location"]))
        raise PlaceTrouble("sends on in a circle", where=self._where)

    def _checked(self, answer: Answer, allowed: tuple[int, ...]) -> Answer:
        status = answer.status
        if status < 400 or status in allowed:
            return answer
        if status == 401:
            raise PlaceTrouble(
                "refuses user and password",
                where=self._where,
                fix="look at user and password in whenvoca.toml, and where it is kept",
            )
        is_text = "text/plain" in answer.headers.get("content-type", "")
        detail = " ".join(answer.content.decode("utf-8", "replace").split())[:120] if is_text else ""
        is_passing = status == 429 or status >= 500
        fix = "it is tried again with the next run" if is_passing else ""
        said = f"answers {answer.said}" + (f": {detail}" if detail else "")
        raise PlaceTrouble(said, where=self._where, fix=fix, is_passing=is_passing)

    def _unreachable(self, error: Exception) -> PlaceTrouble:
        import httpx

        where = self._where
        if "CERTIFICATE" in str(error).upper():
            return PlaceTrouble(
                f"its certificate is not trusted: {error}",
                where=where,
                fix='if it is your own: ca = "own-ca.pem" at the place',
            )
        if isinstance(error, httpx.TimeoutException):
            said = f"does not answer within {self._seconds:.0f} seconds"
        elif isinstance(error, httpx.ConnectError):
            said = "cannot be reached"
        elif isinstance(error, httpx.DecodingError):
            said = "answers what cannot be unpacked"
        else:
            said = "breaks the connection off"
        return PlaceTrouble(said, where=where, fix="what was begun goes on when it is back", is_passing=True)

    # --- WebDAV

    def propfind(self, url: str, names: tuple[str, ...], depth: int = 0) -> list[DavResource]:
        """The properties of an address, and of what lies in it (RFC 4918 9.1).

        Raises PlaceTrouble where the server is away, refuses, or answers anything else.
        """
        from lxml import etree

        root = etree.Element(f"{{{DAV}}}propfind")
        asked = etree.SubElement(root, f"{{{DAV}}}prop")
        for name in names:
            etree.SubElement(asked, name)
        return list(
            self.read_multistatus(
                self.request("PROPFIND", url, etree.tostring(root), {**_XML, "depth": str(depth)}, allowed=_NO_DAV)
            )
        )

    def report(self, url: str, body: Any, depth: int = 1, allowed: tuple[int, ...] = ()) -> Answer:
        """A REPORT (RFC 3253 3.6) with an lxml element as its body.

        Raises PlaceTrouble where the server is away or refuses.
        """
        from lxml import etree

        return self.request("REPORT", url, etree.tostring(body), {**_XML, "depth": str(depth)}, allowed=allowed)

    def read_multistatus(self, answer: Answer) -> Iterator[DavResource]:
        """The pieces of a 207 answer. Raises PlaceTrouble where it is none, or cannot be understood."""
        if answer.status != 207:
            raise NoDav(
                f"does not answer as a calendar server: {answer.said}",
                where=f"{self._name}, {answer.url}",
                fix="is this the address of the CalDAV server?" if answer.status in _NO_DAV else "",
                is_passing=answer.status < 400,
            )
        root = self.parse(answer)
        if root.tag != f"{{{DAV}}}multistatus":
            raise self._no_webdav(answer)
        for response in root.iterfind("d:response", NAMES):
            href = urljoin(answer.url, response.findtext("d:href", "", NAMES).strip())
            properties: dict[str, Any] = {}
            for part in response.iterfind("d:propstat", NAMES):
                found = part.find("d:prop", NAMES)
                if found is not None and _status_of(part.findtext("d:status", "HTTP/1.1 200", NAMES)) < 300:
                    properties |= {each.tag: each for each in found}
            yield DavResource(href, _status_of(response.findtext("d:status", "", NAMES)) or 200, properties)

    def parse(self, answer: Answer) -> Any:
        """The XML of an answer. Raises PlaceTrouble where it is no XML."""
        from lxml import etree

        parser = etree.XMLParser(resolve_entities=False, no_network=True, huge_tree=True)
        try:
            return etree.fromstring(answer.content, parser)
        except etree.XMLSyntaxError as error:
            raise self._no_webdav(answer) from error

    def _no_webdav(self, answer: Answer) -> PlaceTrouble:
        return PlaceTrouble(
            "answers something that is no WebDAV",
            where=f"{self._name}, {answer.url}",
            fix="is this the address of the CalDAV server?",
        )


def _split(url: str) -> SplitResult | None:
    try:
        found = urlsplit(url)
        return found if found.hostname and (found.port is None or found.port) else None
    except ValueError:
        return None


def _origin_of(address: SplitResult) -> tuple[str, str, int]:
    return address.scheme, address.hostname or "", address.port or {"https": 443}.get(address.scheme, 80)


def _status_of(line: str) -> int:
    pieces = line.split()
    return int(pieces[1]) if len(pieces) > 1 and pieces[1].isdigit() else 0


def _retry_after(headers: Mapping[str, str], otherwise: float) -> float:
    """Seconds of a Retry-After (RFC 9110 10.2.3): a number, or a date beside the server's own."""
    text = headers.get("retry-after", "").strip()
    if text.isascii() and text.isdecimal():
        return float(text)
    try:
        until, now = (email.utils.parsedate_to_datetime(each) for each in (text, headers.get("date", "")))
    except (TypeError, ValueError):
        return otherwise
    return max(0.0, (until - now).total_seconds())
