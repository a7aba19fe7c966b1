"""Values and conditions: from tokens to a tree, by precedence.

From loosest to tightest: comma (a list) · if/each · or · and · not · is/contains/… · as, in zone · + - · * / · at ·
a unit behind an amount · a dot. One parser object reads one value and reports every fault it meets.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, NoReturn

from whenvoca.language import tree
from whenvoca.language.faults import FaultList, Spot, nearest
from whenvoca.language.lines import dedent_block
from whenvoca.language.list_nodes import Grouped, Sorted, Top, Unique
from whenvoca.language.slips_in_values import side_by_side
from whenvoca.language.tokens import Piece, Token, split_text, tokenize
from whenvoca.values.durations import UNITS

WORDS = frozenset(
    (
        "and or not is if then else each in at as where before after between contains empty "
        "yes no now today tomorrow none old changes happened reason"
    ).split()
)
VALUE_WORDS = frozenset(["now", "today", "tomorrow", "none", "old", "changes", "happened", "reason"])
FUNCTIONS = ("count", "sum", "first", "last", "join", "split", "lower", "upper", "round", "number", "town")
_UNITS = frozenset(UNITS) | {unit + "s" for unit in UNITS}
_RELATIONS = ("<", "<=", ">", ">=")


class _Unreadable(Exception):
    """Ends the reading of one value after its fault was recorded."""


def read_value(pieces: list[Piece], faults: FaultList, block: list[str] | None = None) -> tree.Node | None:
    """The value that stands in these pieces, commas joining lists; None after a fault."""
    return _Parser(pieces, faults, block).read_whole(lambda parser: parser.read_list())


def read_condition(pieces: list[Piece], faults: FaultList) -> tree.Node | None:
    """The condition or single value that stands in these pieces; None after a fault."""
    return _Parser(pieces, faults, None).read_whole(lambda parser: parser.read_single())


class _Parser:
    def __init__(self, pieces: list[Piece], faults: FaultList, block: list[str] | None) -> None:
        self._faults = faults
        self._block = block
        self._block_line = pieces[-1].line if pieces else 1
        before = len(faults.sorted())
        self._tokens = tokenize(pieces, faults, None)
        self._broken = len(faults.sorted()) > before
        self._position = 0
        self._bracketed: dict[int, tree.Node] = {}

    def read_whole(self, read: Any) -> tree.Node | None:
        """What ``read`` gives, if nothing is left behind it."""
        if self._broken:
            return None
        try:
            node: tree.Node = read(self)
            if self._peek.kind != "end":
                self._stop(self._peek, *self._left_over())
        except _Unreadable:
            return None
        return node

    # --- tokens

    @property
    def _peek(self) -> Token:
        return self._tokens[self._position]

    def _next_is_word(self, *words: str, ahead: int = 0) -> bool:
        index = min(self._position + ahead, len(self._tokens) - 1)
        return self._tokens[index].is_word(*words)

    def _take(self) -> Token:
        token = self._peek
        if token.kind != "end":
            self._position += 1
        return token

    def _took_word(self, *words: str) -> bool:
        for offset, word in enumerate(words):
            if not self._next_is_word(word, ahead=offset):
                return False
        self._position += len(words)
        return True

    def _took_sign(self, *signs: str) -> Token | None:
        return self._take() if self._peek.is_sign(*signs) else None

    def _need_word(self, word: str, what: str) -> None:
        if not self._took_word(word):
            self._stop(self._peek, f'"{word}" is missing here', what)

    def _stop(self, token: Token, message: str, fix: str = "") -> NoReturn:
        self._faults.add(token.spot, message, fix)
        raise _Unreadable

    def _left_over(self) -> tuple[str, str]:
        token = self._peek
        previous = self._tokens[self._position - 1]
        if token.kind == "name" and previous.kind == "name":
            return side_by_side(previous.text, token.text)
        if token.kind == "name" and previous.kind in ("number", "time", "text"):
            said, fix = side_by_side(previous.text, token.text)
            return (f"{token.text} is not expected here", "") if said.startswith("two names") else (said, fix)
        return f"{token.text} is not expected here", ""

    # --- from the loosest to the tightest

    def read_list(self) -> tree.Node:
        first = self.read_single()
        if not self._peek.is_sign(","):
            return first
        items = [first]
        while self._took_sign(","):
            items.append(self.read_single())
        return tree.ListOf(first.spot, tuple(items))

    def read_single(self) -> tree.Node:
        token = self._peek
        if self._took_word("if"):
            condition = self.read_single()
            self._need_word("then", "a choice is written: if CONDITION then VALUE else VALUE")
            then = self.read_single()
            otherwise = self.read_single() if self._took_word("else") else None
            return tree.Choice(token.spot, condition, then, otherwise)
        if self._next_is_word("each") and not self._peek_sign(1, "."):
            return self._read_each()
        return self._read_group() or self._read_behind_list(self._read_or())

    def _read_group(self) -> tree.Node | None:
        """group LIST by KEY; None where something else stands."""
        following = self._tokens[min(self._position + 1, len(self._tokens) - 1)]
        if not self._next_is_word("group") or following.kind != "name":
            return None
        spot = self._take().spot
        source = self._read_behind_list(self._read_sum())
        self._need_word("by", "written: group events by location")
        return self._read_behind_list(Grouped(spot, source, self._read_sum()))

    def _read_behind_list(self, node: tree.Node) -> tree.Node:
        """What may stand behind a list: how it is sorted and cut. These words count nowhere else."""
        while True:
            if self._next_is_word("sort") and self._next_is_word("by", ahead=1):
                self._position += 2
                keys = [self._read_sort_key()]
                while self._took_word("then"):
                    keys.append(self._read_sort_key())
                node = Sorted(node.spot, node, tuple(keys))
            elif self._next_is_word("top") and not self._peek_sign(1, "."):
                self._take()
                node = Top(node.spot, node, self._read_sum())
            elif self._took_word("unique"):
                node = Unique(node.spot, node)
            else:
                return node

    def _read_sort_key(self) -> tuple[tree.Node, bool]:
        key = self._read_sum()
        return key, self._took_word("falling")

    def _peek_sign(self, ahead: int, *signs: str) -> bool:
        index = min(self._position + ahead, len(self._tokens) - 1)
        return self._tokens[index].is_sign(*signs)

    def _read_each(self) -> tree.Node:
        spot = self._take().spot
        name = self._take()
        if name.kind != "name":
            self._stop(name, "a name is missing after each", 'written: each e in events: "{e.title}"')
        self._need_word("in", 'written: each e in events: "{e.title}"')
        source = self._read_group() or self._read_behind_list(self._read_sum())
        condition = self._read_or() if self._took_word("where") else None
        if not self._took_sign(":"):
            self._stop(self._peek, "a colon is missing here", 'written: each e in events: "{e.title}"')
        return tree.Each(spot, name.text.lower(), source, condition, self.read_single())

    def _read_or(self) -> tree.Node:
        return self._read_joined("or", self._read_and)

    def _read_and(self) -> tree.Node:
        return self._read_joined("and", self._read_not)

    def _read_joined(self, word: str, read: Any) -> tree.Node:
        first = read()
        parts = [first]
        while self._next_is_word(word):
            join = self._take()
            start = self._position
            part = read()
            if word == "or":
                self._refuse_loose_or(parts[-1], part, self._tokens[start])
            parts.append(part)
            for node in (parts[-2], part):
                if isinstance(node, tree.Several) and node.joined_by != word and id(node) not in self._bracketed:
                    self._faults.add(
                        join.spot, '"and" and "or" stand side by side', "put brackets around what belongs together"
                    )
        return tree.Several(first.spot, word, tuple(parts)) if len(parts) > 1 else first

    def _refuse_loose_or(self, left: tree.Node, right: tree.Node, token: Token) -> None:
        is_loose = isinstance(right, tree.Text | tree.Literal) and not isinstance(getattr(right, "value", None), bool)
        if is_loose and isinstance(left, tree.Compare) and left.relation == "is":
            self._faults.add(token.spot, "what stands after or is no condition", f"write: is one of …, {token.text}")

    def _read_not(self) -> tree.Node:
        if self._next_is_word("not") and not self._peek_sign(1, "."):
            spot = self._take().spot
            return tree.Not(spot, self._read_not())
        return self._read_comparison()

    def _read_comparison(self) -> tree.Node:
        left = self._read_shown()
        token = self._peek
        if sign := self._took_sign(*_RELATIONS):
            return tree.Compare(left.spot, sign.text, left, self._read_shown())
        if self._took_word("is"):
            return self._read_is(left, token)
        if self._took_word("contains"):
            return tree.Compare(left.spot, "contains", left, self._read_shown())
        if self._took_word("begins", "with"):
            return tree.Compare(left.spot, "begins with", left, self._read_shown())
        if self._took_word("ends", "with"):
            return tree.Compare(left.spot, "ends with", left, self._read_shown())
        if self._took_word("like"):
            return tree.Compare(left.spot, "like", left, self._read_shown())
        if self._took_word("between"):
            low = self._read_shown()
            self._need_word("and", "written: X between A and B")
            return tree.Between(left.spot, left, low, self._read_shown())
        if self._next_is_word("before", "after"):
            return self._read_before(left)
        return left

    def _read_before(self, left: tree.Node) -> tree.Node:
        word = self._take()
        if self._peek.kind == "end" or self._peek.is_sign(",", ")"):
            return tree.Offset(left.spot, left, word.text.lower() == "before")
        return tree.Compare(left.spot, word.text.lower(), left, self._read_shown())

    def _read_is(self, left: tree.Node, token: Token) -> tree.Node:
        negated = self._took_word("not")

        def done(node: tree.Node) -> tree.Node:
            return tree.Not(token.spot, node) if negated else node

        if self._took_word("empty"):
            return done(tree.IsEmpty(left.spot, left))
        if self._took_word("filled"):
            return done(tree.Not(token.spot, tree.IsEmpty(left.spot, left)))
        if self._took_word("one", "of"):
            items = [self._read_shown()]
            while self._took_sign(","):
                items.append(self._read_shown())
            return done(tree.IsOneOf(left.spot, left, tuple(items)))
        return done(tree.Compare(left.spot, "is", left, self._read_shown()))

    def _read_shown(self) -> tree.Node:
        node = self._read_sum()
        while True:
            if self._took_word("as"):
                node = self._read_form(node)
            elif self._next_is_word("in") and self._next_is_word("zone", ahead=1):
                self._position += 2
                node = tree.InZone(node.spot, node, self._read_sum())
            else:
                return node

    def _read_form(self, node: tree.Node) -> tree.Node:
        form = self._take()
        if form.is_word("date", "time"):
            return tree.Shown(node.spot, node, form.text.lower())
        if form.kind == "text" and all(isinstance(part, str) for part in form.value):
            return tree.Shown(node.spot, node, '"' + "".join(form.value))
        return self._stop(form, "after as stands date, time or a pattern", 'such as "EEE d MMM HH:mm"')

    def _read_sum(self) -> tree.Node:
        left = self._read_product()
        while sign := self._took_sign("+", "-"):
            left = tree.Sum(left.spot, sign.text, left, self._read_product())
        return left

    def _read_product(self) -> tree.Node:
        left = self._read_at()
        while sign := self._took_sign("*", "/"):
            left = tree.Sum(left.spot, sign.text, left, self._read_at())
        return left

    def _read_at(self) -> tree.Node:
        left = self._read_amount()
        if self._next_is_word("at"):
            self._take()
            return tree.At(left.spot, left, self._read_amount())
        return left

    def _read_amount(self) -> tree.Node:
        node = self._read_dotted()
        if self._next_is_word("working") and self._word_after() in ("day", "days"):
            self._take()
            self._take()
            return tree.WorkingSpan(node.spot, node)
        pieces: list[tuple[tree.Node, str]] = []
        while self._peek.kind == "name" and self._peek.text.lower() in _UNITS:
            pieces.append((node, self._take().text.lower().removesuffix("s")))
            if not self._amount_follows():
                break
            node = self._read_dotted()
        return tree.Span(pieces[0][0].spot, tuple(pieces)) if pieces else node

    def _amount_follows(self) -> bool:
        if self._peek.kind != "number":
            return False
        return self._word_after() in _UNITS

    def _word_after(self) -> str:
        """The name behind the next token, in lower case; empty where something else stands there."""
        after = self._tokens[min(self._position + 1, len(self._tokens) - 1)]
        return after.text.lower() if after.kind == "name" else ""

    def _read_dotted(self) -> tree.Node:
        node = self._read_primary()
        while self._took_sign("."):
            word = self._take()
            if word.is_word("column") and self._peek.kind == "text":
                word = self._column_name()
            if str(word.kind) != "name":
                self._stop(word, "a name is missing after the dot")
            node = tree.Field(_across(node.spot, word.spot), node, word.text.lower(), word.text)
        return node

    def _read_primary(self) -> tree.Node:
        token = self._take()
        kind: str = token.kind
        match kind:
            case "number" | "date" | "time":
                return tree.Literal(token.spot, token.value)
            case "text":
                return tree.Text(token.spot, (self._read_parts(token.value),))
            case "block":
                return self._read_block(token)
            case "name":
                return self._read_name(token)
        if token.is_sign("-"):
            return tree.Minus(token.spot, self._read_amount())
        if token.is_sign("("):
            inner = self.read_list()
            if not self._took_sign(")"):
                self._stop(self._peek, "a closing bracket is missing", "put ) where what it holds ends")
            self._bracketed[id(inner)] = inner
            return inner
        self._stop(token, "a value is missing here" if token.kind == "end" else f"{token.text} is not expected here")

    def _read_name(self, token: Token) -> tree.Node:
        word = token.text.lower()
        if word == "column" and self._peek.kind == "text":
            column = self._column_name()
            return tree.Name(column.spot, column.text.lower(), column.text, is_column=True)
        if self._peek.is_sign("("):
            return self._read_call(token)
        if self._peek.is_sign(".") and word not in ("now", "today", "tomorrow"):
            return tree.Name(token.spot, word, token.text)
        if word in ("yes", "no"):
            return tree.Literal(token.spot, word == "yes")
        if word in ("empty", "none"):
            return tree.Literal(token.spot, None)
        if word in WORDS - VALUE_WORDS:
            self._stop(
                token,
                f'"{token.text}" is a word of the language and no value',
                f"a column of that name: row.{token.text}",
            )
        return tree.Name(token.spot, word, token.text)

    def _column_name(self) -> Token:
        text = self._take()
        name = "".join(part for part in text.value if isinstance(part, str))
        return Token("name", name, text.spot)

    def _read_call(self, token: Token) -> tree.Node:
        self._take()
        if token.text.lower() not in FUNCTIONS:
            self._stop(token, f'there is no function "{token.text}"', nearest(token.text, FUNCTIONS))
        arguments: list[tree.Node] = []
        while not self._took_sign(")"):
            arguments.append(self.read_single())
            if not self._took_sign(",") and not self._peek.is_sign(")"):
                self._stop(self._peek, "a closing bracket is missing")
        return tree.Call(token.spot, token.text.lower(), tuple(arguments))

    # --- texts

    def _read_parts(self, parts: Sequence[str | Piece]) -> tuple[str | tree.Node, ...]:
        read: list[str | tree.Node] = []
        for part in parts:
            if isinstance(part, str):
                read.append(part)
            elif node := read_value([part], self._faults):
                read.append(node)
        return tuple(read)

    def _read_block(self, token: Token) -> tree.Node:
        common, lines = dedent_block(self._block or [])
        read = []
        for number, line in enumerate(lines, self._block_line + 1):
            parts, _, _ = split_text(Piece(line, number, common + 1), 0, self._faults, to_end=True)
            read.append(self._read_parts(parts))
        return tree.Text(token.spot, tuple(read))


def _across(first: Spot, last: Spot) -> Spot:
    if first.line != last.line:
        return last
    return Spot(first.line, first.column, last.column + last.length - first.column)
