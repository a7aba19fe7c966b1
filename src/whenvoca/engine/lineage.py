"""Who a thing is: a lineage, the same each time a run is repeated, and the UIDs and marks that follow from it."""

from __future__ import annotations

import hashlib
import re
import uuid
from functools import lru_cache

from msgspec import Struct

_SAFE = re.compile(r"[A-Za-z0-9 ._~-]*")


class Lineage(Struct, frozen=True):
    """(root, workflow, subject key, step, repetition). At most one thing of a lineage stands."""

    root: str
    workflow: str
    subject: str
    step: str
    repetition: str = ""

    def to_mark(self) -> str:
        """The text that things carry in X-WHENVOCA-ORIGIN."""
        return _mark_of(self)

    @classmethod
    def from_mark(cls, mark: str) -> Lineage | None:
        """The lineage of a mark, None if it is none of ours."""
        from urllib.parse import unquote

        parts = mark.split("/")
        return cls(*(unquote(part) for part in parts)) if len(parts) == 5 else None

    @staticmethod
    def prefix(root: str, workflow: str) -> str:
        """How the marks of everything that a workflow made begin."""
        return f"{_quoted(root)}/{_quoted(workflow)}/"

    @property
    def of_subject(self) -> tuple[str, str]:
        """How the marks begin of what the workflow made of the same subject: as it is, or of one of its occurrences."""
        begin = f"{self.prefix(self.root, self.workflow)}{_quoted(self.subject)}"
        return f"{begin}/", f"{begin}{_quoted('#')}"

    @property
    def siblings(self) -> str:
        """How the marks begin of what the same step made of the same subject, in each of its repetitions."""
        return f"{self.prefix(self.root, self.workflow)}{_quoted(self.subject)}/{_quoted(self.step)}/"

    def to_uid(self, number: int) -> str:
        """The UID of the lineage's ``number``-th thing: UUIDv5, so that a lost ledger makes nothing twice."""
        return uuid5(_namespace(self.root), f"{self.to_mark()}#{number}")


def _quoted(part: str) -> str:
    if _SAFE.fullmatch(part):
        return part
    from urllib.parse import quote  # takes longer to load than most marks to make

    return quote(part, safe=" -._~")


@lru_cache(maxsize=64)  # a step asks for its own several times
def _mark_of(lineage: Lineage) -> str:
    head, tail = _mark_ends(lineage.root, lineage.workflow, lineage.step, lineage.repetition)
    return f"{head}{_quoted(lineage.subject)}{tail}"


@lru_cache(maxsize=64)
def _mark_ends(root: str, workflow: str, step: str, repetition: str) -> tuple[str, str]:
    """What stands before and behind the subject in a mark."""
    return f"{_quoted(root)}/{_quoted(workflow)}/", f"/{_quoted(step)}/{_quoted(repetition)}"


@lru_cache(maxsize=8)
def _namespace(root: str) -> bytes:
    return uuid.uuid5(uuid.NAMESPACE_URL, f"urn:whenvoca:{root}").bytes


def uuid5(namespace: bytes, name: str) -> str:
    """A UUIDv5 as text (RFC 9562 5.5): what the standard library makes, without an object for each of ten thousand."""
    made = bytearray(hashlib.sha1(namespace + name.encode(), usedforsecurity=False).digest()[:16])
    made[6] = made[6] & 0x0F | 0x50
    made[8] = made[8] & 0x3F | 0x80
    text = made.hex()
    return f"{text[:8]}-{text[8:12]}-{text[12:16]}-{text[16:20]}-{text[20:]}"


def new_root() -> str:
    """A random root of identities for a new workspace."""
    return str(uuid.uuid4())
