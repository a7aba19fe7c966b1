"""The parts of an .xlsx or .xlsm (ECMA-376): which part holds which tab, and a new file with some parts changed."""

from __future__ import annotations

import io
import posixpath
import re
import zipfile
from collections.abc import Iterable, Iterator, Mapping
from typing import Any

from whenvoca.errors import SourceFault

MAIN = "http://schemas.openxmlformats.org/spreadsheetml/2006/main"
_STRICT_MAIN = "http://purl.oclc.org/ooxml/spreadsheetml/main"
_LARGEST_PART = 1 << 30
_LARGEST_RATIO = 400  # a part that unpacks to more than this many times its size, and is large, is a bomb
_PIECE = 1 << 20  # bytes that are unpacked together
_BLOCK = 1 << 16  # bytes of a part that are packed together
_BOMB_FLOOR = 64 << 20


class Package:
    """An opened workbook file. Parts are read when asked for; nothing is changed in place.

    Raises SourceFault if the bytes are no workbook of this format, or unpack to an absurd size.
    """

    def __init__(self, data: bytes) -> None:
        if data.startswith(b"\xd0\xcf\x11\xe0"):
            raise SourceFault(
                "is protected by a password or of the old .xls format", fix="save it as .xlsx without a password"
            )
        try:
            self._zip = zipfile.ZipFile(io.BytesIO(data))
        except (zipfile.BadZipFile, ValueError, OSError) as error:
            raise SourceFault("is no .xlsx workbook: it is no zip archive", fix="save it as .xlsx again") from error
        refuse_bombs(self._zip)
        self.names = self._zip.namelist()
        self.workbook_part = self._find_workbook()

    def read(self, part: str) -> bytes:
        """The content of a part. Raises SourceFault if it is broken or missing."""
        content = io.BytesIO()  # unpacked piece by piece: at once, a large part would stand in memory twice
        try:
            with self._zip.open(part) as packed:
                while piece := packed.read(_PIECE):
                    content.write(piece)
            return content.getvalue()
        except (KeyError, zipfile.BadZipFile, OSError, EOFError, RuntimeError, NotImplementedError) as error:
            raise SourceFault(
                f"is a broken workbook: its part {part} cannot be read", fix="save it as .xlsx again"
            ) from error
        except Exception as error:  # zlib.error is no subclass of anything above
            raise SourceFault(f"is a broken workbook: its part {part} cannot be unpacked") from error

    def parse(self, part: str) -> Any:
        """The part as an lxml element. Raises SourceFault where it is no XML."""
        from lxml import etree

        parser = etree.XMLParser(resolve_entities=False, no_network=True, huge_tree=True)
        try:
            return etree.fromstring(self.read(part), parser)
        except etree.XMLSyntaxError as error:
            raise SourceFault(f"is a broken workbook: its part {part} is no XML") from error

    def _find_workbook(self) -> str:
        if "_rels/.rels" not in self.names:
            raise SourceFault("is no .xlsx workbook: it is a zip archive of something else")
        for target, kind in self.relations("").values():
            if kind.endswith("/officeDocument"):
                return target
        raise SourceFault("is no .xlsx workbook: it names no workbook part")

    def relations(self, part: str) -> dict[str, tuple[str, str]]:
        """The relations of a part: id to (target part, type). Raises SourceFault where it is no XML."""
        folder, name = posixpath.split(part)
        rels = posixpath.join(folder, "_rels", f"{name}.rels")
        if rels not in self.names:
            return {}
        found = {}
        for element in self.parse(rels):
            target = element.get("Target", "")
            if element.get("TargetMode") == "External":
                continue
            full = target.lstrip("/") if target.startswith("/") else posixpath.normpath(posixpath.join(folder, target))
            found[element.get("Id", "")] = (full, element.get("Type", ""))
        return found

    def sheets(self) -> dict[str, str]:
        """The worksheets by tab name, each with its part, in order.

        Raises SourceFault where a part is missing or no XML.
        """
        relations = self.relations(self.workbook_part)
        found = {}
        for sheet in self.parse(self.workbook_part).iter(f"{{{MAIN}}}sheet", f"{{{_STRICT_MAIN}}}sheet"):
            identifier = next((value for name, value in sheet.attrib.items() if name.endswith("}id")), "")
            target, kind = relations.get(identifier, ("", ""))
            if kind.endswith("/worksheet"):
                found[sheet.get("name", "")] = target
        return found

    def part_of_kind(self, part: str, ending: str) -> str:
        """The part that a part is related to by a type with this ending, empty if none."""
        return next((target for target, kind in self.relations(part).values() if kind.endswith(ending)), "")

    def uses_1904(self) -> bool:
        """Whether dates count from 1904."""
        head = self.read(self.workbook_part)
        found = re.search(rb"<(?:\w+:)?workbookPr\b[^>]*\bdate1904=[\"'](1|true)[\"']", head)
        return found is not None

    def rewrite(self, changed: Mapping[str, bytes | list[bytes | memoryview]]) -> bytes:
        """The file with these parts changed or added; every other part keeps its content, place and date."""
        target = io.BytesIO()
        with zipfile.ZipFile(target, "w", zipfile.ZIP_DEFLATED) as out:
            for entry in self._zip.infolist():
                info = zipfile.ZipInfo(entry.filename, entry.date_time)
                info.compress_type = entry.compress_type
                info.external_attr, info.create_system, info.comment = (
                    entry.external_attr,
                    entry.create_system,
                    entry.comment,
                )
                content = changed.get(entry.filename)
                if isinstance(content, list):
                    with out.open(info, "w") as part:
                        part.writelines(_in_blocks(content))
                else:
                    out.writestr(info, self.read(entry.filename) if content is None else content)
            for name in changed.keys() - set(self.names):
                content = changed[name]
                whole = b"".join(content) if isinstance(content, list) else content
                out.writestr(zipfile.ZipInfo(name, (2026, 1, 1, 0, 0, 0)), whole, zipfile.ZIP_DEFLATED)
        return target.getvalue()


def _in_blocks(pieces: Iterable[bytes | memoryview]) -> Iterator[bytes | memoryview]:
    """The same bytes, small pieces put together: packing each by itself takes long, and large ones need no copy."""
    small: list[bytes | memoryview] = []
    size = 0
    for piece in pieces:
        if len(piece) < _BLOCK:
            small.append(piece)
            size += len(piece)
        if size >= _BLOCK or (small and len(piece) >= _BLOCK):
            yield b"".join(small)
            small, size = [], 0
        if len(piece) >= _BLOCK:
            yield piece
    yield b"".join(small)


def refuse_bombs(archive: zipfile.ZipFile) -> None:
    """Raises SourceFault for an archive that unpacks to an absurd size."""
    total = 0
    for entry in archive.infolist():
        total += entry.file_size
        packed = max(1, entry.compress_size)
        if (entry.file_size > _BOMB_FLOOR and entry.file_size / packed > _LARGEST_RATIO) or total > _LARGEST_PART:
            raise SourceFault(
                f"unpacks to an absurd size ({entry.filename}: {entry.file_size:,} bytes out of {packed:,})",
                fix="this is no honest workbook; do not open it",
            )
