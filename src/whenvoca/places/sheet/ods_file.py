""".ods (OpenDocument spreadsheets): read by calamine, never written: a workflow that would is a fault."""

from __future__ import annotations

import io
import zipfile
from collections.abc import Mapping
from typing import Any

from whenvoca.errors import RowFault, SourceFault
from whenvoca.places.sheet.extent import refuse_far
from whenvoca.places.sheet.grid import Grid, TabWrites, choose_tab, tidy_rows
from whenvoca.places.sheet.xlsx_package import refuse_bombs
from whenvoca.values.kinds import Raw, tidy_raw

_KIND = b"application/vnd.oasis.opendocument.spreadsheet"
_NO_WRITING = "sheets are not written into .ods files"
_MEND = "save it as .xlsx and name that file"


class OdsFile:
    """The OpenDocument backing."""

    unwritable = _NO_WRITING

    @property
    def new_tab(self) -> str:
        """What the tab of a new file would be called."""
        return "Sheet1"

    def tabs(self, data: bytes) -> list[str]:
        """The names of the tabs, in order."""
        return list(self._open(data).sheet_names)

    def load(self, data: bytes, tab: str | None) -> Grid:
        """The cells of a tab, typed as the file types them.

        Raises SourceFault where the file cannot be read or the tab is missing.
        """
        from python_calamine import CalamineError

        book = self._open(data)
        name = choose_tab(tab, list(book.sheet_names))
        try:
            rows = book.get_sheet_by_name(name).to_python(skip_empty_area=False)
        except (CalamineError, ValueError, OSError) as error:
            raise SourceFault(f"is a spreadsheet that cannot be read: {error}", fix="save it again") from error
        columns = tidy_rows(rows)
        return Grid(tab=name, rows=rows, columns=columns)

    def _open(self, data: bytes) -> Any:
        from python_calamine import CalamineError, CalamineWorkbook

        try:
            with zipfile.ZipFile(io.BytesIO(data)) as archive:
                refuse_bombs(archive)
                if "mimetype" not in archive.namelist() or not archive.read("mimetype").startswith(_KIND):
                    raise SourceFault("is no .ods spreadsheet: it is a zip archive of something else")
                if "content.xml" in archive.namelist():
                    refuse_far(archive.read("content.xml"))
            return CalamineWorkbook.from_filelike(io.BytesIO(data))
        except (zipfile.BadZipFile, OSError) as error:
            raise SourceFault("is no .ods spreadsheet: it is no zip archive", fix="save it as .ods again") from error
        except (CalamineError, ValueError) as error:
            raise SourceFault(f"is a spreadsheet that cannot be read: {error}", fix="save it again") from error

    def patch(self, data: bytes | None, writes: Mapping[str, TabWrites]) -> bytes:
        """Raises RowFault: `check` says so before."""
        raise RowFault(_NO_WRITING, fix=_MEND)

    def shift_rows(self, data: bytes, tab: str, write: TabWrites) -> bytes:
        """Raises RowFault: `check` says so before."""
        raise RowFault(_NO_WRITING, fix=_MEND)

    def find_formulas(self, data: bytes, tab: str) -> set[tuple[int, int]]:
        """None are looked for, since nothing is written."""
        return set()

    def to_raw(self, value: Any) -> Raw:
        """The value as it is."""
        return tidy_raw(value)
