"""What calendars in files have alike: who they are, and what is said of them."""

from __future__ import annotations

from abc import abstractmethod
from pathlib import Path
from zoneinfo import ZoneInfo

from whenvoca.calendars.reader import Noun
from whenvoca.engine.clock import Clock
from whenvoca.engine.place_protocols import Calendar
from whenvoca.errors import WhenvocaError
from whenvoca.language.definitions import PlaceInfo


class LocalCalendar(Calendar):
    """A calendar or list of tasks at a path, which messages call ``address``; it is made when it is first written."""

    def __init__(
        self,
        name: str,
        path: Path,
        address: str,
        zone: ZoneInfo,
        *,
        clash: str = "allow",
        readonly: bool = False,
        clock: Clock,
        noun: Noun = "event",
    ) -> None:
        self.name, self.address, self.zone, self.clash = name, address, zone, clash
        self.kind = "tasks" if noun == "task" else "calendar"
        self._path, self._readonly, self._clock = path, readonly, clock
        self._noun: Noun = noun

    @abstractmethod
    def _count(self) -> int:
        """How many events it holds. Raises what is wrong with it."""

    @abstractmethod
    def _check(self) -> None:
        """Raises what is wrong with it, as far as that is quickly seen."""

    def holds(self) -> str:
        count = self._count()
        missing = "" if self._path.exists() else ", made when it is written"
        self.all_events()
        unread = f", {len(self.unread)} unread" if self.unread else ""
        return f"{count} {self._noun}{'s' * (count != 1)}{unread}{missing}"

    def info(self) -> PlaceInfo:
        said, fix, status = "", "", 0
        try:
            self._check()
        except WhenvocaError as error:
            said, fix, status = str(error.message), error.fix, int(error.exit_code)
        return PlaceInfo(
            name=self.name,
            kind=self.kind,
            zone=self.zone.key,
            readonly=self._readonly,
            trouble=said,
            trouble_fix=fix,
            trouble_exit=status,
        )
