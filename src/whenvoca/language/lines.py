"""The layout of a workflow file: lines, comments, text blocks, and the tree that indentation makes.

This layer knows quotes and braces, so that a # inside a text is no comment, and nothing else of the language.
"""

from __future__ import annotations

from collections.abc import Iterator

from msgspec import Struct, field

from whenvoca.language.faults import FaultList, Spot

OPENING_QUOTES, CLOSING_QUOTES = '"“„‟', '"”“‟'
BLOCK_MARK = '"""'


class Line(Struct):
    """One line of code with what hangs below it.

    ``code`` is without indentation and comment; ``block`` holds the lines of a text block that the code opens.
    """

    number: int
    indent: int
    code: str
    comment: str = ""
    block: list[str] | None = None
    last: int = 0  # number of the last physical line, where a block goes on
    children: list[Line] = field(default_factory=list)

    @property
    def spot(self) -> Spot:
        """The whole code of the line."""
        return Spot(self.number, self.indent + 1, max(1, len(self.code)))

    def walk(self) -> Iterator[Line]:
        """This line and all below it, in the order of the file."""
        yield self
        for child in self.children:
            yield from child.walk()


def find_comment(text: str, start: int = 0) -> tuple[int, bool]:
    """Where the comment of a line begins (its length if none), and whether a text block is left open."""
    position = start
    stack: list[str] = []  # what is open: quotes, and braces inside them
    while position < len(text):
        sign = text[position]
        inside_text = bool(stack) and stack[-1] == '"'
        if inside_text:
            if sign == "\\":
                position += 1
            elif sign in CLOSING_QUOTES:
                stack.pop()
            elif sign == "{":
                stack.append("{")
        elif text.startswith(BLOCK_MARK, position) and not stack:
            return len(text), True
        elif sign in OPENING_QUOTES:
            stack.append('"')
        elif sign == "}" and stack:
            stack.pop()
        elif sign == "#" and not stack:
            return position, False
        position += 1
    return len(text), False


def read_lines(text: str, faults: FaultList) -> list[Line]:
    """The lines of code as a tree. A tab or an indentation that fits nowhere is a fault."""
    flat = list(_iter_lines(text, faults))
    roots: list[Line] = []
    stack: list[Line] = []
    for line in flat:
        while stack and stack[-1].indent >= line.indent:
            left = stack.pop()
            if line.indent > (stack[-1].indent if stack else -1) and line.indent < left.indent:
                siblings = stack[-1].children if stack else roots
                if siblings and siblings[0].indent != line.indent:
                    faults.add(line.spot, "this indentation fits no line above", "indent it as the lines it belongs to")
        (stack[-1].children if stack else roots).append(line)
        stack.append(line)
    return roots


def _iter_lines(text: str, faults: FaultList) -> Iterator[Line]:
    physical = text.split("\n")
    index = 0
    while index < len(physical):
        raw = physical[index].rstrip("\r")
        body = raw.lstrip(" \t\u00a0")
        lead = raw[: len(raw) - len(body)]
        number = index + 1
        index += 1
        if "\t" in lead:
            faults.add(Spot(number, 1, len(lead)), "a tab stands in the indentation", "whenvoca tidy fixes it")
        indent = len(lead.expandtabs(4))
        end, opens = find_comment(body)
        code, comment = body[:end].rstrip(), body[end:]
        if not code:
            continue
        line = Line(number, indent, code, comment, last=number)
        if opens:
            index = _take_block(line, physical, index, faults)
        yield line


def _take_block(line: Line, physical: list[str], index: int, faults: FaultList) -> int:
    """Moves a text block's lines into ``line``; answers the index of the line after it."""
    opened = line.code.index(BLOCK_MARK)
    rest = line.code[opened + 3 :]
    if BLOCK_MARK in rest:  # opened and closed on one line
        inner, _, after = rest.partition(BLOCK_MARK)
        line.block = [inner]
        line.code = line.code[: opened + 3]
        _keep_tail(line, after, line.number, faults)
        return index
    line.block = []
    if rest.strip() and not rest.strip().startswith("#"):
        spot = Spot(line.number, line.indent + opened + 4, len(rest))
        faults.add(spot, 'a text block begins on the line after its """', "move this text one line down")
    line.code = line.code[: opened + 3]
    for position in range(index, len(physical)):
        raw = physical[position].rstrip("\r")
        if BLOCK_MARK in raw:
            inner, _, after = raw.partition(BLOCK_MARK)
            if inner.strip():
                line.block.append(inner)
            line.last = position + 1
            _keep_tail(line, after, position + 1, faults)
            return position + 1
        line.block.append(raw)
    faults.add(Spot(line.number, line.indent + opened + 1, 3), "this text block is never closed", 'end it with """')
    line.last = len(physical)
    return len(physical)


def _keep_tail(line: Line, after: str, number: int, faults: FaultList) -> None:
    tail = after.strip()
    if tail.startswith("#"):
        line.comment = tail
    elif tail:
        faults.add(
            Spot(number, 1, len(tail)), f'"{tail}" stands behind the end of a text block', "put it on a line of its own"
        )


def dedent_block(block: list[str]) -> tuple[int, list[str]]:
    """The common indentation of a block's lines, and the lines without it."""
    filled = [line for line in block if line.strip()]
    common = min((len(line) - len(line.lstrip()) for line in filled), default=0)
    return common, [line[common:].rstrip() for line in block]
