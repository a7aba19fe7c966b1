"""WebDAV over HTTP: requests that wait politely, never carry the password to another host, and say what went wrong."""

from __future__ import annotations

import email.utils
import re
import weakref
from collections.abc import Callable, Iterator, Mapping
from threading import Lock
from typing import Any
from urllib.parse import urljoin, urlsplit

from msgspec import Struct, field

from whenvoca.errors import PlaceTrouble, SettingsFault
from whenvoca.places.calendar.finding_server import find_server
from whenvoca.places.secrets import Secret

DAV, CALDAV, CALSERVER = "DAV:", "urn:ietf:params:xml:ns:caldav", "http://calendarserver.org/ns/"
NAMES = {"d": DAV, "c": CALDAV, "cs": CALSERVER}
_TRIES = 3  # of one request, where the server is busy or does not answer
_LONGEST_PAUSE = 60.0  # a Retry-After beyond it is told instead of waited for
_MOST_REDIRECTS = 5
_XML = {"content-type": "application/xml; charset=utf-8"}
_DOMAIN = re.compile(r"(?!-)[A-Za-z0-9-]+(\.[A-Za-z0-9-]+)*")
_LOOPBACK = ("localhost", "127.0.0.1", "::1")


class DavAnswer(Struct, frozen=True):
    """What the server answered."""

    status: int
    headers: Mapping[str, str]
    content: bytes
    url: str


class DavResource(Struct, frozen=True):
    """One response of a multistatus (RFC 4918 14.24): an address, its status, and the properties it has."""

    href: str
    status: int
    properties: Mapping[str, Any] = field(default_factory=dict)  # element by {namespace}name

    def text(self, name: str) -> str:
        """The text of a property, empty where it has none."""
        element = self.properties.get(name)
        return (element.text or "").strip() if element is not None else ""


class DavClient:
    """One server, one user. Safe to use from several threads. Raises PlaceTrouble where the server cannot be used."""

    def __init__(
        self,
        server: str,
        user: str,
        secret: Secret,
        *,
        wait: Callable[[float], None],
        name: str,
        ca: str = "",
        seconds: float = 30.0,
        nameserver: str = "",
    ) -> None:
        self.server = server  # as it is written: an address, or a domain
        self._nameserver = nameserver
        self._base = server if "://" in server else ""
        self._user, self._secret = user, secret
        self._wait, self._name, self._ca, self._seconds = wait, name, ca, seconds
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
            if self._client is None:
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
        auth = httpx.BasicAuth(self._user, password) if self._user else None
        return httpx.Client(
            auth=auth,
            verify=verify,
            timeout=self._seconds,
            limits=limits,
            follow_redirects=False,
            headers={"user-agent": "whenvoca"},
        )

    # --- requests

    def request(
        self,
        method: str,
        url: str,
        content: bytes | str = b"",
        headers: Mapping[str, str] | None = None,
        allowed: tuple[int, ...] = (),
    ) -> DavAnswer:
        """Sends it; tries again where the server is busy or does not answer. Statuses from 400 on raise PlaceTrouble
        unless they are allowed."""
        import httpx

        url = urljoin(self.base, url)
        client = self._opened()
        for attempt in range(1, _TRIES + 1):
            try:
                self.requests += 1
                response = self._follow(client, method, url, content, headers or {})
            except httpx.TransportError as error:
                if attempt == _TRIES:
                    raise self._unreachable(error) from error
                self._wait(0.2 * 4 ** (attempt - 1))
                continue
            if response.status_code in (429, 500, 502, 503, 504) and response.status_code not in allowed:
                pause = _retry_after(response.headers, 0.2 * 4 ** (attempt - 1))
                if attempt < _TRIES and pause <= _LONGEST_PAUSE:
                    self._wait(pause)
                    continue
            return self._checked(response, allowed)
        raise AssertionError("the last try answers or raises")

    def _follow(self, client: Any, method: str, url: str, content: bytes | str, headers: Mapping[str, str]) -> Any:
        """A redirect is followed on the same host only: another one would get to see the password."""
        first = urlsplit(url)
        for _ in range(_MOST_REDIRECTS):
            response = client.request(method, url, content=content, headers=dict(headers))
            if response.status_code not in (301, 302, 303, 307, 308) or "location" not in response.headers:
                return response
            target = urlsplit(urljoin(url, response.headers["location"]))
            is_safer = first.scheme == "http" and target.scheme == "https" and target.port in (None, 443)
            if target.hostname != first.hostname or (
                (target.scheme, target.port) != (first.scheme, first.port) and not is_safer
            ):
                raise PlaceTrouble(
                    f"sends on to another server, {target.scheme}://{target.netloc}; the password is not given to it",
                    where=f"{self._name}, {first.netloc}",
                    fix="if that is right, write its address into whenvoca.toml",
                )
            url = target.geturl()
        raise PlaceTrouble("sends on in a circle", where=f"{self._name}, {first.netloc}")

    def _checked(self, response: Any, allowed: tuple[int, ...]) -> DavAnswer:
        status = response.status_code
        answer = DavAnswer(status, response.headers, response.content, str(response.url))
        if status < 400 or status in allowed:
            return answer
        where = f"{self._name}, {response.url.host}"
        if status == 401:
            raise PlaceTrouble(
                "refuses user and password",
                where=where,
                fix="look at user and password in whenvoca.toml, and where it is kept",
            )
        said = f"answers {status} {response.reason_phrase}".strip()
        detail = (
            " ".join(response.text.split())[:120] if "text/plain" in response.headers.get("content-type", "") else ""
        )
        is_passing = status == 429 or status >= 500
        fix = "it is tried again with the next run" if is_passing else ""
        raise PlaceTrouble(said + (f": {detail}" if detail else ""), where=where, fix=fix, is_passing=is_passing)

    def _unreachable(self, error: Exception) -> PlaceTrouble:
        import httpx

        where = f"{self._name}, {self.host}"
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
        else:
            said = "breaks the connection off"
        return PlaceTrouble(said, where=where, fix="what was begun goes on when it is back", is_passing=True)

    # --- WebDAV

    def propfind(self, url: str, names: tuple[str, ...], depth: int = 0) -> list[DavResource]:
        """The properties of an address, and of what lies in it (RFC 4918 9.1).

        Raises PlaceTrouble where the server is away or refuses.
        """
        from lxml import etree

        root = etree.Element(f"{{{DAV}}}propfind")
        asked = etree.SubElement(root, f"{{{DAV}}}prop")
        for name in names:
            etree.SubElement(asked, name)
        answer = self.request("PROPFIND", url, etree.tostring(root), {**_XML, "depth": str(depth)}, allowed=(404, 405))
        return list(self.read_multistatus(answer)) if answer.status == 207 else []

    def report(self, url: str, body: Any, depth: int = 1, allowed: tuple[int, ...] = ()) -> DavAnswer:
        """A REPORT (RFC 3253 3.6) with an lxml element as its body.

        Raises PlaceTrouble where the server is away or refuses.
        """
        from lxml import etree

        return self.request("REPORT", url, etree.tostring(body), {**_XML, "depth": str(depth)}, allowed=allowed)

    def read_multistatus(self, answer: DavAnswer) -> Iterator[DavResource]:
        """The pieces of a 207 answer. Raises PlaceTrouble where it cannot be understood."""
        for response in self.parse(answer).iterfind("d:response", NAMES):
            href = urljoin(answer.url, response.findtext("d:href", "", NAMES).strip())
            status = _status_of(response.findtext("d:status", "", NAMES))
            properties: dict[str, Any] = {}
            for part in response.iterfind("d:propstat", NAMES):
                part_status = _status_of(part.findtext("d:status", "HTTP/1.1 200", NAMES))
                status = status or part_status
                if part_status < 300:
                    properties |= {each.tag: each for each in part.find("d:prop", NAMES)}
            yield DavResource(href, 200 if properties else status or 200, properties)

    def parse(self, answer: DavAnswer) -> Any:
        """The XML of an answer. Raises PlaceTrouble where it is no XML."""
        from lxml import etree

        parser = etree.XMLParser(resolve_entities=False, no_network=True, huge_tree=True)
        try:
            return etree.fromstring(answer.content, parser)
        except etree.XMLSyntaxError as error:
            raise PlaceTrouble(
                "answers something that is no WebDAV",
                where=f"{self._name}, {answer.url}",
                fix="is this the address of the CalDAV server?",
            ) from error


def _status_of(line: str) -> int:
    pieces = line.split()
    return int(pieces[1]) if len(pieces) > 1 and pieces[1].isdigit() else 0


def _retry_after(headers: Mapping[str, str], otherwise: float) -> float:
    """Seconds of a Retry-After (RFC 9110 10.2.3): a number, or a date beside the server's own."""
    text = headers.get("retry-after", "").strip()
    if text.isdigit():
        return float(text)
    try:
        until, now = (email.utils.parsedate_to_datetime(each) for each in (text, headers.get("date", "")))
    except (TypeError, ValueError):
        return otherwise
    return max(0.0, (until - now).total_seconds())
