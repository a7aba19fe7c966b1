"""Which backing reads and writes a file, by its ending."""

from __future__ import annotations

from pathlib import Path

from whenvoca.errors import SettingsFault
from whenvoca.places.settings import PlaceSettings
from whenvoca.places.sheet.csv_file import CsvFile
from whenvoca.places.sheet.grid import Backing
from whenvoca.places.sheet.ods_file import OdsFile
from whenvoca.places.sheet.xlsx_file import XlsxFile

_ENDINGS: dict[str, type[XlsxFile] | type[OdsFile]] = {".xlsx": XlsxFile, ".xlsm": XlsxFile, ".ods": OdsFile}


def make_backing(
    path: Path,
    *,
    encoding: str = "",
    delimiter: str = "",
    decimal: str | None = None,
    dates: str | None = None,
    refuse: PlaceSettings | None = None,
) -> Backing:
    """The backing for a file. Raises SettingsFault for an ending that none reads."""
    ending = path.suffix.lower()
    if ending in (".csv", ".tsv", ".txt"):
        sign = "," if decimal == "decimal comma" else "."
        delimiter = {"tab": "\t", "\\t": "\t"}.get(delimiter, delimiter) or ("\t" if ending == ".tsv" else "")
        return CsvFile(encoding=encoding, delimiter=delimiter, decimal=sign, day_format=dates or "")
    if ending in _ENDINGS:
        return _ENDINGS[ending]()
    message = f"{path.name}: sheets are read from .xlsx, .xlsm, .ods and .csv"
    raise refuse.refuse("file", message) if refuse else SettingsFault(message, fix="save it in one of these formats")
