"""Who a thing is: a lineage, the same each time a run is repeated, and the UIDs and marks that follow from it."""

from __future__ import annotations

import uuid
from dataclasses import dataclass
from functools import lru_cache
from urllib.parse import quote, unquote


@dataclass(frozen=True, slots=True)
class Lineage:
    """(root, workflow, subject key, step, repetition). At most one thing of a lineage stands."""

    root: str
    workflow: str
    subject: str
    step: str
    repetition: str = ""

    def to_mark(self) -> str:
        """The text that things carry in X-WHENVOCA-ORIGIN."""
        return "/".join(_quoted(part) for part in (self.root, self.workflow, self.subject, self.step, self.repetition))

    @classmethod
    def from_mark(cls, mark: str) -> Lineage | None:
        """The lineage of a mark, None if it is none of ours."""
        parts = mark.split("/")
        return cls(*(unquote(part) for part in parts)) if len(parts) == 5 else None

    def to_uid(self, number: int) -> str:
        """The UID of the lineage's ``number``-th thing: UUIDv5, so that a lost ledger makes nothing twice."""
        return str(uuid.uuid5(_namespace(self.root), f"{self.to_mark()}#{number}"))


def _quoted(part: str) -> str:
    return part if part.isalnum() and part.isascii() else quote(part, safe=" -._~")


@lru_cache(maxsize=8)
def _namespace(root: str) -> uuid.UUID:
    return uuid.uuid5(uuid.NAMESPACE_URL, f"urn:whenvoca:{root}")


def new_root() -> str:
    """A random root of identities for a new workspace."""
    return str(uuid.uuid4())
