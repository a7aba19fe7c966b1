"""Accounts that need a consent instead of a password: OAuth 2.0 (RFC 6749), in a browser with PKCE and a loopback
redirect (RFC 8252, RFC 7636) or by a code that is typed elsewhere (RFC 8628).

The refresh token is kept in the system's keyring, or where there is none in a file that only its owner reads.
"""

from __future__ import annotations

import contextlib
import json
import os
import secrets
import socketserver
import threading
from collections.abc import Callable, Mapping
from http.server import BaseHTTPRequestHandler
from pathlib import Path
from typing import Any
from urllib.parse import parse_qs, urlsplit

from msgspec import Struct

from whenvoca.engine.clock import Clock
from whenvoca.engine.workspace.settings import Workspace
from whenvoca.errors import PlaceTrouble, RequestFault, SettingsFault
from whenvoca.places.settings import PlaceSettings

_KEYS = ("authorize", "token", "device", "client", "secret", "scope")
_SECONDS = 30.0
_PATIENCE = 600.0  # seconds for a person to say yes
_USUAL = 300.0  # seconds that a token holds where nothing says how long
_EARLY = 60.0  # seconds before its end from which a token is renewed
_DEVICE_GRANT = "urn:ietf:params:oauth:grant-type:device_code"
_MADE = '[consents.NAME] authorize = "https://…", token = "https://…", client = "…", scope = "…"'
_SERVICE = "whenvoca"


class Grantor(Struct, frozen=True):
    """Who gives tokens, as [consents.NAME] says."""

    name: str
    client: str
    token: str
    authorize: str = ""
    device: str = ""
    secret: str = ""
    scope: str = ""


def read_grantor(settings: PlaceSettings, workspace: Workspace) -> Grantor:
    """The one that a place's password names. Raises SettingsFault."""
    name = str(settings.table("password").get("consent", ""))
    table = workspace.consents.get(name)
    if table is None:
        raise settings.refuse("password", f'there is no consent "{name}"', f"add it: {_MADE.replace('NAME', name)}")
    for key in table:
        if key not in _KEYS:
            raise SettingsFault(f'consents.{name}: there is no setting "{key}"', fix=f"known here: {', '.join(_KEYS)}")
    given = {key: str(table[key]) for key in _KEYS if key in table and key not in ("secret", "scope")}
    scope = table.get("scope", "")
    given["scope"] = " ".join(scope) if isinstance(scope, list) else str(scope)
    for key in ("client", "token"):
        if not given.get(key):
            raise SettingsFault(f"consents.{name}: {key} is missing", fix=_MADE.replace("NAME", name))
    if not given.get("authorize") and not given.get("device"):
        raise SettingsFault(f"consents.{name}: it says neither authorize nor device", fix=_MADE.replace("NAME", name))
    for key in ("authorize", "token", "device"):
        address = urlsplit(given.get(key, "https://x"))
        is_own_machine = address.hostname in ("localhost", "127.0.0.1", "::1")
        if address.scheme != "https" and not (address.scheme == "http" and is_own_machine):
            raise SettingsFault(f'consents.{name}: {key} = "{given[key]}" is not encrypted', fix="https://…")
    return Grantor(name=name, secret=_secret(table), **given)


def _secret(table: Mapping[str, Any]) -> str:
    reference = table.get("secret")
    if not isinstance(reference, dict) or "env" not in reference:
        return ""
    return os.environ.get(str(reference["env"]), "")


class ConsentSecret:
    """A token in place of a password, renewed before it ends."""

    is_token = True

    def __init__(self, place: str, grantor: Grantor, user: str, folder: Path, clock: Clock) -> None:
        self._place, self._grantor, self._user, self._clock = place, grantor, user, clock
        self._store = _Store(grantor.name, user, folder)
        self._token, self._ends = "", 0.0  # an access token, and when it ends, on the clock's tick

    @property
    def where_kept(self) -> str:
        """Where the refresh token is kept."""
        return self._store.where

    def reveal(self) -> str:
        """An access token that holds still. Raises PlaceTrouble where nobody has consented, or not any more."""
        if self._token and self._ends - _EARLY > self._clock.tick():
            return self._token
        refresh = self._store.get()
        if not refresh:
            raise self._needs_consent("nobody has consented to its use yet")
        with _telling(self._place, self._grantor.token), _client(self._grantor) as client:
            from authlib.common.errors import AuthlibBaseError

            try:
                self._take(client.refresh_token(self._grantor.token, refresh_token=refresh), refresh)
            except AuthlibBaseError as error:
                raise self._needs_consent(
                    f"its consent does not hold any more: {error.description or error}"
                ) from error
        return self._token

    def _needs_consent(self, message: str) -> PlaceTrouble:
        return PlaceTrouble(message, where=self._place, fix=f"whenvoca consent {self._place}")

    def _take(self, token: Mapping[str, Any], before: str = "") -> None:
        refresh = str(token.get("refresh_token") or before)
        if not refresh:
            raise RequestFault(
                "the account gives no lasting consent (no refresh token)",
                where=self._place,
                fix="ask for it in scope, often by offline_access",
            )
        self._token = str(token["access_token"])
        self._ends = self._clock.tick() + float(token.get("expires_in") or _USUAL)
        if refresh != before:
            self._store.put(refresh)

    def ask_in_browser(self, show: Callable[[str], None]) -> None:
        """Has a person consent in a browser; ``show`` is given the address. Raises RequestFault, PlaceTrouble."""
        verifier, state = secrets.token_urlsafe(64), secrets.token_urlsafe(24)
        with _Redirect() as redirect, _telling(self._place, self._grantor.token), _client(self._grantor) as client:
            from authlib.common.errors import AuthlibBaseError

            client.redirect_uri = redirect.address
            address, _ = client.create_authorization_url(
                self._grantor.authorize, state=state, code_verifier=verifier, login_hint=self._user
            )
            show(address)
            answer = redirect.wait(_PATIENCE)
            if not answer:
                raise RequestFault("nobody has consented within ten minutes", where=self._place)
            given = parse_qs(urlsplit(answer).query)
            if given.get("state") != [state]:
                raise RequestFault("the answer is not to this question; nothing was kept", where=self._place)
            if "error" in given:
                said = (given.get("error_description") or given["error"])[0]
                raise RequestFault(f"no consent: {said}", where=self._place)
            try:
                token = client.fetch_token(
                    self._grantor.token, authorization_response=answer, code_verifier=verifier, state=state
                )
            except AuthlibBaseError as error:
                raise RequestFault(f"no consent: {error.description or error}", where=self._place) from error
            self._take(token)

    def ask_by_code(self, show: Callable[[str, str], None], wait: Callable[[float], None]) -> None:
        """Has a person type a code at an address, with whatever they have at hand; ``show`` is given both."""
        with _telling(self._place, self._grantor.device), _client(self._grantor) as client:
            from authlib.common.errors import AuthlibBaseError

            asked = client.request(
                "POST",
                self._grantor.device,
                data={"client_id": self._grantor.client, "scope": self._grantor.scope},
                withhold_token=True,
            )
            try:
                told = asked.json()
                code, address = str(told["user_code"]), str(told["verification_uri"])
            except (ValueError, KeyError, TypeError) as error:
                raise PlaceTrouble(f"gives no code: {asked.status_code}", where=self._grantor.device) from error
            show(address, code)
            pause, left = float(told.get("interval", 5)), min(float(told.get("expires_in", 600)), _PATIENCE)
            while left > 0:
                wait(pause)
                left -= pause
                try:
                    token = client.fetch_token(
                        self._grantor.token, grant_type=_DEVICE_GRANT, device_code=str(told["device_code"])
                    )
                except AuthlibBaseError as error:
                    if error.error == "authorization_pending":
                        continue
                    if error.error == "slow_down":
                        pause += 5
                        continue
                    raise RequestFault(f"no consent: {error.description or error.error}", where=self._place) from error
                self._take(token)
                return
            raise RequestFault("nobody has consented in time", where=self._place)

    @property
    def has_browser_way(self) -> bool:
        """Whether the account can be consented to in a browser of this machine."""
        return bool(self._grantor.authorize)

    @property
    def has_code_way(self) -> bool:
        """Whether a code can be typed elsewhere."""
        return bool(self._grantor.device)


@contextlib.contextmanager
def _telling(place: str, address: str) -> Any:
    """Turns what goes wrong on the way into PlaceTrouble."""
    import httpx

    try:
        yield
    except httpx.HTTPError as error:
        host = urlsplit(address).hostname or address
        raise PlaceTrouble(f"{host} cannot be reached: {error}", where=place, is_passing=True) from error


def _client(grantor: Grantor) -> Any:
    try:
        from authlib.integrations.httpx_client import OAuth2Client
    except ImportError as error:
        raise SettingsFault("a consent needs authlib", fix="pip install 'whenvoca[mail]'") from error
    return OAuth2Client(
        client_id=grantor.client,
        client_secret=grantor.secret or None,
        scope=grantor.scope or None,
        token_endpoint_auth_method="client_secret_post" if grantor.secret else "none",
        code_challenge_method="S256",
        timeout=_SECONDS,
    )


class _Store:
    """Where a refresh token is kept: the keyring, else a file of its owner's only."""

    def __init__(self, name: str, user: str, folder: Path) -> None:
        self._key = f"consent {name} {user}"
        self._path = folder / "consents.json"
        self.where = "the keyring"

    def get(self) -> str:
        with contextlib.suppress(Exception):  # each backend has errors of its own
            import keyring

            if found := keyring.get_password(_SERVICE, self._key):
                return str(found)
        return str(self._file().get(self._key, ""))

    def put(self, refresh: str) -> None:
        try:
            import keyring

            keyring.set_password(_SERVICE, self._key, refresh)
            return
        except Exception:  # none is there, or it is locked
            self.where = str(self._path)
        kept = json.dumps({**self._file(), self._key: refresh}).encode()
        self._path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        temporary = self._path.with_suffix(".new")
        with contextlib.suppress(FileNotFoundError):
            temporary.unlink()
        descriptor = os.open(temporary, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
        with os.fdopen(descriptor, "wb") as file:
            file.write(kept)
            file.flush()
            os.fsync(file.fileno())
        os.replace(temporary, self._path)

    def _file(self) -> dict[str, Any]:
        try:
            found = json.loads(self._path.read_bytes())
        except (OSError, ValueError):
            return {}
        return found if isinstance(found, dict) else {}


class _Redirect:
    """A page on this machine to which the browser comes back, once (RFC 8252 7.3)."""

    def __enter__(self) -> _Redirect:
        self._answer = ""
        self._is_there = threading.Event()
        owner = self

        class Page(BaseHTTPRequestHandler):
            def do_GET(self) -> None:
                is_answer = "state=" in self.path
                self.send_response(200 if is_answer else 404)
                self.send_header("content-type", "text/html; charset=utf-8")
                self.end_headers()
                if is_answer:
                    self.wfile.write(b"<!doctype html><p>Thank you. You can close this page.</p>")
                    owner._answer = owner.address + self.path.lstrip("/")
                    owner._is_there.set()

            def log_message(self, format: str, *args: Any) -> None:
                """Nothing of it is logged: it holds the code."""

        self._server = socketserver.ThreadingTCPServer(("127.0.0.1", 0), Page)
        self._server.daemon_threads = True
        threading.Thread(target=self._server.serve_forever, daemon=True).start()
        return self

    def __exit__(self, *error: object) -> None:
        self._server.shutdown()
        self._server.server_close()

    @property
    def address(self) -> str:
        """Where it stands."""
        return f"http://127.0.0.1:{self._server.server_address[1]}/"

    def wait(self, seconds: float) -> str:
        """The address with which the browser came, empty where it did not."""
        self._is_there.wait(seconds)
        return self._answer
