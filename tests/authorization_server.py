"""A small stand-in for a server that gives consents (OAuth 2.0), for the tests: it checks what a real one checks."""

from __future__ import annotations

import base64
import hashlib
import json
import secrets
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any
from urllib.parse import parse_qs, urlencode, urlsplit


class AuthorizationServer:
    """Says yes to whoever comes by a browser, and to codes when ``is_typed``."""

    def __init__(self) -> None:
        self.codes: dict[str, dict[str, str]] = {}
        self.refresh: set[str] = set()
        self.access: set[str] = set()
        self.is_typed = self.rotates = False
        self.refuses = ""
        self.asked: list[dict[str, str]] = []
        self.lasts = 3600
        owner = self

        class Page(BaseHTTPRequestHandler):
            def do_GET(self) -> None:
                owner._authorize(self, _flat(urlsplit(self.path).query))

            def do_POST(self) -> None:
                given = _flat(self.rfile.read(int(self.headers.get("content-length", 0))).decode())
                owner._post(self, urlsplit(self.path).path, given)

            def log_message(self, format: str, *args: Any) -> None:
                """Nothing is logged."""

        self._server = ThreadingHTTPServer(("127.0.0.1", 0), Page)
        self.url = f"http://127.0.0.1:{self._server.server_address[1]}"

    def settings(self, name: str = "mail", *ways: str) -> str:
        """Its table in whenvoca.toml."""
        lines = [f'[consents.{name}]\nclient = "whenvoca-test"\nscope = "mail offline"\ntoken = "{self.url}/token"']
        lines += [f'{way} = "{self.url}/{way}"' for way in ways or ("authorize", "device")]
        return "\n".join(lines) + "\n"

    def _authorize(self, page: Any, given: dict[str, str]) -> None:
        self.asked.append(given)
        if self.refuses:
            answer = {"error": self.refuses, "state": given["state"]}
        else:
            code = secrets.token_urlsafe(8)
            self.codes[code] = given
            answer = {"code": code, "state": given["state"]}
        page.send_response(302)
        page.send_header("location", f"{given['redirect_uri']}?{urlencode(answer)}")
        page.end_headers()

    def _post(self, page: Any, path: str, given: dict[str, str]) -> None:
        self.asked.append(given)
        if path == "/device":
            told = {"device_code": "dev", "user_code": "ABCD-EFGH", "verification_uri": f"{self.url}/type"}
            return _tell(page, {**told, "interval": 1, "expires_in": 60})
        if path == "/introspect":
            is_good = given.get("token") in self.access
            return _tell(page, {"active": is_good, "username": "desk@example.org"})
        return self._token(page, given)

    def _token(self, page: Any, given: dict[str, str]) -> None:
        match given.get("grant_type"):
            case "authorization_code":
                asked = self.codes.pop(given.get("code", ""), None)
                proof = base64.urlsafe_b64encode(hashlib.sha256(given.get("code_verifier", "").encode()).digest())
                if asked is None or asked["code_challenge"] != proof.decode().rstrip("="):
                    return _tell(page, {"error": "invalid_grant"}, 400)
                if asked["redirect_uri"] != given.get("redirect_uri"):
                    return _tell(page, {"error": "invalid_grant"}, 400)
            case "urn:ietf:params:oauth:grant-type:device_code":
                if not self.is_typed:
                    self.is_typed = True  # the next time it is
                    return _tell(page, {"error": "authorization_pending"}, 400)
            case "refresh_token":
                if given.get("refresh_token") not in self.refresh:
                    return _tell(page, {"error": "invalid_grant", "error_description": "revoked"}, 400)
                if self.rotates:
                    self.refresh.discard(given["refresh_token"])
            case _:
                return _tell(page, {"error": "unsupported_grant_type"}, 400)
        access = secrets.token_urlsafe(12)
        self.access.add(access)
        told: dict[str, Any] = {"access_token": access, "token_type": "Bearer", "expires_in": self.lasts}
        if given["grant_type"] != "refresh_token" or self.rotates:
            told["refresh_token"] = secrets.token_urlsafe(12)
            self.refresh.add(told["refresh_token"])
        return _tell(page, told)


def _flat(query: str) -> dict[str, str]:
    return {name: values[0] for name, values in parse_qs(query).items()}


def _tell(page: Any, told: dict[str, Any], status: int = 200) -> None:
    data = json.dumps(told).encode()
    page.send_response(status)
    page.send_header("content-type", "application/json")
    page.send_header("content-length", str(len(data)))
    page.end_headers()
    page.wfile.write(data)


@contextmanager
def running_authorization_server() -> Iterator[AuthorizationServer]:
    """The server, while it is needed."""
    server = AuthorizationServer()
    thread = threading.Thread(target=server._server.serve_forever, daemon=True)
    thread.start()
    try:
        yield server
    finally:
        server._server.shutdown()
        server._server.server_close()
        thread.join()
