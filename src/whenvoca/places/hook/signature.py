"""Signatures of web calls: HMAC-SHA256 of the body (RFC 2104), in a header of the caller's choice or by the open
convention of signed web hooks, with an id and a time."""

from __future__ import annotations

import base64
import binascii
import hashlib
import hmac
from collections.abc import Mapping
from datetime import datetime, timedelta

from msgspec import Struct

from whenvoca.errors import SettingsFault
from whenvoca.places.secrets import Secret

TOLERANCE = timedelta(minutes=5)  # how old, or how far ahead, the time of a call may be
_ID, _TIME, _SIGNATURE = "webhook-id", "webhook-timestamp", "webhook-signature"
_PREFIX = "whsec_"


class Signature(Struct, frozen=True):
    """How calls are signed: with the secret, in that header; by the open convention where no header is named."""

    secret: Secret
    header: str = ""
    form: str = "hex"

    def why_refused(self, headers: Mapping[str, str], body: bytes, now: datetime) -> str:
        """What is wrong with the signature of a call; empty where it is right. Raises PlaceTrouble without the
        secret."""
        key = self.secret.reveal()
        return self._by_header(key, headers, body) if self.header else _by_convention(key, headers, body, now)

    def _by_header(self, key: str, headers: Mapping[str, str], body: bytes) -> str:
        given = headers.get(self.header.lower(), "").strip()
        if not given:
            return f"the header {self.header} is missing"
        digest = hmac.new(key.encode(), body, hashlib.sha256).digest()
        wanted = digest.hex() if self.form == "hex" else base64.b64encode(digest).decode()
        given = given.removeprefix("sha256=")
        is_right = hmac.compare_digest(_folded(given, self.form), _folded(wanted, self.form))
        return "" if is_right else "the signature is wrong"


def _folded(text: str, form: str) -> bytes:
    return (text.lower() if form == "hex" else text).encode("utf-8", "replace")


def _by_convention(key: str, headers: Mapping[str, str], body: bytes, now: datetime) -> str:
    number, sent, given = (headers.get(name, "").strip() for name in (_ID, _TIME, _SIGNATURE))
    for name, value in ((_ID, number), (_TIME, sent), (_SIGNATURE, given)):
        if not value:
            return f"the header {name} is missing"
    if not (sent.isascii() and sent.isdecimal()) or len(sent) > 12:
        return f"{_TIME} is not a count of seconds"
    if abs(now.timestamp() - int(sent)) > TOLERANCE.total_seconds():
        return f"{_TIME} is more than {TOLERANCE.seconds // 60} minutes away"
    digest = hmac.new(_key_bytes(key), f"{number}.{sent}.".encode() + body, hashlib.sha256).digest()
    wanted = base64.b64encode(digest)
    found = [part.partition(",")[2] for part in given.split() if part.startswith("v1,")]
    right = [hmac.compare_digest(each.encode("utf-8", "replace"), wanted) for each in found]
    return "" if any(right) else "the signature is wrong"


def _key_bytes(key: str) -> bytes:
    if not key.startswith(_PREFIX):
        return key.encode()
    try:
        return base64.b64decode(key.removeprefix(_PREFIX), validate=True)
    except binascii.Error as error:
        raise SettingsFault(f"the secret begins with {_PREFIX} and is not base64 after it") from error
