"""Hearing dictated messages. The stand-in that ships reads a text file beside the sound."""

from __future__ import annotations

from pathlib import Path

from whenvoca.places import files

_LONGEST = 10_000  # signs


class TextBeside:
    """A stand-in for a recogniser: the words of voice-1.ogg stand in voice-1.ogg.txt, or in voice-1.txt."""

    def transcribe(self, sound: str) -> str:
        """The words in the file beside, empty where there is none. Raises PlaceTrouble where it cannot be read."""
        path = Path(sound)
        for beside in (path.with_name(path.name + ".txt"), path.with_suffix(".txt")):
            if beside.is_file():
                return files.read_file(beside).decode("utf-8-sig", "replace")[:_LONGEST].strip()
        return ""
