"""The standard layout of a workflow file. Only blanks, tabs, the form of quotes, and words that have a new name change;
comments stay.

Laid out twice is laid out once. A file whose meaning would change by it (a fault that hides what was meant) is refused.
"""

from __future__ import annotations

import re

from whenvoca.language.checker import check_workflow
from whenvoca.language.definitions import Vocabulary
from whenvoca.language.faults import FaultList
from whenvoca.language.field_checks import FieldContext
from whenvoca.language.lines import (
    BLOCK_MARK,
    CLOSING_QUOTES,
    OPENING_QUOTES,
    Line,
    dedent_block,
    find_comment,
    read_lines,
)
from whenvoca.language.reader import read_workflow
from whenvoca.language.settings_lines import SETTINGS

_INDENT = "  "
_COMMENT_COLUMN = 46
_FIELD = re.compile(r'(column\s+"[^"]+"|\S+)\s+(.*)', re.DOTALL)
_STATEMENTS = ("if ", "else", "for each ", "let ", "stop", "fail ")


NOTHING_AROUND = FieldContext({})


def tidy_text(text: str, vocabulary: Vocabulary, around: FieldContext = NOTHING_AROUND) -> str | None:
    """The text in the standard layout; None if its lines cannot be told apart surely. ``around``: the kinds of the
    places, by which old names of fields are told from columns."""
    text = text.replace("\r\n", "\n").replace("\r", "\n").removeprefix("\ufeff")
    text = _renewed(text, vocabulary, around)
    tidied = _lay_out(text)
    if tidied is None or _lay_out(tidied) != tidied:
        return None
    before, _ = read_workflow("", "", text, vocabulary)
    after, _ = read_workflow("", "", tidied, vocabulary)
    return tidied if before == after else None


def _renewed(text: str, vocabulary: Vocabulary, around: FieldContext) -> str:
    """The text with words that have a new name written anew."""
    workflow, faults = read_workflow("", "", text, vocabulary)
    check_workflow(workflow, faults, around)
    lines = text.split("\n")
    for each in reversed(faults.old_words):
        line, begin, end = lines[each.spot.line - 1], each.spot.column - 1, each.spot.column - 1 + len(each.old)
        if line[begin:end] == each.old:
            lines[each.spot.line - 1] = line[:begin] + each.new + line[end:]
    return "\n".join(lines)


def _lay_out(text: str) -> str | None:
    faults = FaultList("", text)
    roots = read_lines(text, faults)
    if any("closed" in fault.message or "fits no line" in fault.message for fault in faults.sorted()):
        return None
    return _Layout(text, roots).render()


class _Layout:
    def __init__(self, text: str, roots: list[Line]) -> None:
        self._physical = text.split("\n")
        self._roots = roots
        self._out: dict[int, list[str]] = {}  # physical line number: what stands for it
        self._indents: dict[int, int] = {}
        self._covered: set[int] = set()

    def render(self) -> str:
        """The whole text."""
        self._lay_siblings(self._roots, 0, are_fields=False)
        lines: list[str] = []
        for number, raw in enumerate(self._physical, 1):
            if number in self._out:
                lines += self._out[number]
            elif number in self._covered:
                continue
            elif raw.strip(" \t\u00a0").startswith("#"):
                lines.append(" " * self._indent_after(number) + raw.strip(" \t\u00a0").rstrip())
            elif lines and lines[-1] != "":
                lines.append("")
        while lines and lines[-1] == "":
            lines.pop()
        return "\n".join(lines) + "\n"

    def _indent_after(self, number: int) -> int:
        following = [each for each in self._indents if each > number]
        return self._indents[min(following)] if following else 0

    # --- lines that stand side by side

    def _lay_siblings(self, lines: list[Line], depth: int, *, are_fields: bool) -> None:
        for group in self._groups(lines, are_fields):
            is_table = are_fields or group[0].code.split()[0].lower() in SETTINGS
            rendered = self._as_table(group, depth) if is_table else [self._plain(line) for line in group]
            self._write_group(group, rendered, depth)
            for line in group:
                if is_table:
                    self._lay_continuation(line, depth, rendered[group.index(line)])
                else:
                    self._lay_siblings(line.children, depth + 1, are_fields=_has_fields(line))

    def _groups(self, lines: list[Line], are_fields: bool) -> list[list[Line]]:
        """Lines that are aligned with each other: all fields of a step; settings that follow each other."""
        if are_fields:
            return [lines] if lines else []
        groups: list[list[Line]] = []
        for line in lines:
            is_setting = line.code.split()[0].lower() in SETTINGS
            if groups and is_setting and groups[-1][-1].code.split()[0].lower() in SETTINGS:
                groups[-1].append(line)
            else:
                groups.append([line])
        return groups

    def _as_table(self, group: list[Line], depth: int) -> list[str]:
        parts = [_FIELD.match(line.code) for line in group]
        names = [_straight(found[1]) if found else line.code for found, line in zip(parts, group, strict=True)]
        width = max((len(name) for name, line in zip(names, group, strict=True) if line.block is None), default=0)
        rendered = []
        for found, name, line in zip(parts, names, group, strict=True):
            if found is None:
                rendered.append(name)
            elif line.block is not None or (len(group) == 1 and name.lower() in SETTINGS and depth == 0):
                rendered.append(f"{name} {_spaced(found[2])}")
            else:
                rendered.append(f"{name.ljust(width)}  {_spaced(found[2])}")
        return rendered

    def _plain(self, line: Line) -> str:
        return _spaced(line.code)

    def _write_group(self, group: list[Line], rendered: list[str], depth: int) -> None:
        lead = _INDENT * depth
        for line, code in zip(group, rendered, strict=True):
            self._indents[line.number] = len(lead)
            self._covered.update(range(line.number, line.last + 1))
            comment = line.comment.rstrip()
            if line.block is not None:
                self._out[line.number] = [lead + code, *self._block_lines(line, len(lead) + 2, comment)]
            else:
                self._out[line.number] = [_with_comment(lead + code, comment)]

    def _block_lines(self, line: Line, indent: int, comment: str) -> list[str]:
        _, lines = dedent_block(line.block or [])
        lead = " " * indent
        return [(lead + each).rstrip() for each in lines] + [lead + BLOCK_MARK + (f"  {comment}" if comment else "")]

    def _lay_continuation(self, line: Line, depth: int, code: str) -> None:
        """Lines that carry a value on stand under where it begins."""
        found = _FIELD.match(code)
        column = len(_INDENT * depth) + (found.start(2) if found else 2)
        for child in (each for direct in line.children for each in direct.walk()):
            self._indents[child.number] = column
            self._covered.update(range(child.number, child.last + 1))
            text = _with_comment(
                " " * column + _spaced(child.code), "" if child.block is not None else child.comment.rstrip()
            )
            block = self._block_lines(child, column + 2, child.comment.rstrip()) if child.block is not None else []
            self._out[child.number] = [text, *block]


def _with_comment(code: str, comment: str) -> str:
    """The code with its comment in the comments' column, or a blank behind longer code."""
    return f"{code.ljust(_COMMENT_COLUMN - 1)} {comment}" if comment else code


def _has_fields(line: Line) -> bool:
    """Whether what hangs below a line are fields or settings, not statements."""
    code = line.code.lower()
    if code.startswith("when"):
        return True
    return not code.startswith(_STATEMENTS)


def _straight(code: str) -> str:
    """The code with curly quotes made straight, where they open or close a text."""
    out: list[str] = []
    stack: list[str] = []
    position = 0
    while position < len(code):
        sign = code[position]
        inside = bool(stack) and stack[-1] == '"'
        if inside and sign == "\\":
            out.append(code[position : position + 2])
            position += 2
            continue
        if inside and sign in CLOSING_QUOTES:
            stack.pop()
            sign = '"'
        elif inside and sign == "{":
            stack.append("{")
        elif not inside and sign == "}" and stack:
            stack.pop()
        elif not inside and sign in OPENING_QUOTES:
            if code.startswith(BLOCK_MARK, position) and not stack:
                out.append(code[position:])
                break
            stack.append('"')
            sign = '"'
        out.append(sign)
        position += 1
    return "".join(out)


def _spaced(code: str) -> str:
    """The code with single blanks outside its texts."""
    code = _straight(code)
    end, _ = find_comment(code)
    pieces = re.split(r'("""|"(?:\\.|[^"\\])*")', code[:end])
    if code.count("{") and re.search(r'\{[^}]*"', code):
        return code.strip()  # texts within texts: left as they are
    return "".join(piece if piece.startswith('"') else re.sub(r"[ \t\u00a0]+", " ", piece) for piece in pieces).strip()
