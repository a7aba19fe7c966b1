"""A hook: an address that another system calls."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path
from zoneinfo import ZoneInfo

from whenvoca.engine.intake_protocols import IntakePlace
from whenvoca.engine.ledger.protocol import Ledger
from whenvoca.errors import RequestFault, SourceFault
from whenvoca.language.definitions import ColumnInfo, PlaceInfo, WebInfo
from whenvoca.places.hook.body import read_data
from whenvoca.places.hook.keeping import keep_call
from whenvoca.places.hook.reading import HookReading, WebCall, read_elements, word_at
from whenvoca.places.hook.signature import Signature
from whenvoca.places.sample_file import body_of, load_sample
from whenvoca.values.kinds import Kind


class Hook(IntakePlace):
    """A hook on the web; its address is a secret of the workspace's."""

    kind = "hook"
    address = "an address of its own"

    def __init__(self, name: str, zone: ZoneInfo, reading: HookReading, signature: Signature | None) -> None:
        self.name, self.zone, self.reading, self.signature = name, zone, reading, signature

    def read(self, kind: str, body: bytes, now: datetime) -> WebCall:
        """What a body of that content type says. Raises BodyFault where it is no data, SourceFault where the data
        is not what the hook's settings say."""
        data = read_data(kind, body)
        once = word_at(data, self.reading.once, "id") if self.reading.once else ""
        return WebCall(once, read_elements(self.reading, data, now, self.zone))

    def put_sample(self, ledger: Ledger, path: Path, now: datetime) -> None:
        kind, body = body_of(load_sample(path))
        try:
            call = self.read(kind, body, now)
        except SourceFault as fault:
            raise RequestFault(f"the call would be refused: {fault.message}", where=str(path), fix=fault.fix) from fault
        keep_call(ledger, self.name, call, now)

    def holds(self) -> str:
        count = len(self.reading.fields)
        return f"{count} field{'s' * (count != 1)}"

    def info(self) -> PlaceInfo:
        kinds = self.reading.kinds
        columns = tuple(
            ColumnInfo(name=name, letter="", kind=kinds.get(name, Kind.TEXT), declared=True)
            for name in self.reading.fields
        )
        web = WebInfo(is_unsigned=self.signature is None)
        return PlaceInfo(name=self.name, kind=self.kind, zone=self.zone.key, columns=columns, web=web)
