"""The type of every value before anything runs, and the faults that show in it: unknown names, wrong types."""

from __future__ import annotations

from collections.abc import Container
from functools import reduce

from whenvoca.language import tree
from whenvoca.language.definitions import ColumnInfo, PlaceInfo
from whenvoca.language.expressions import VALUE_WORDS
from whenvoca.language.faults import FaultList, Spot, nearest, with_article
from whenvoca.language.list_nodes import Grouped, Sorted, Top, Unique
from whenvoca.language.list_types import type_of_list
from whenvoca.language.names import Names, fold_name
from whenvoca.language.old_words import renewed
from whenvoca.language.slips_in_values import as_text, other_type, sum_slip, unknown_word
from whenvoca.language.types import (
    ANY,
    DATE,
    DURATION,
    EMPTY,
    MOMENT,
    NUMBER,
    OFFSET,
    TEXT,
    TIME,
    WORKING_DAYS,
    YES_NO,
    Type,
    fits,
    join_types,
    list_of,
    thing,
)
from whenvoca.values.kinds import kind_of

_MEANT = ("now", "today", "tomorrow", "none", "empty")  # words of values that a slip may have meant
_ORDERED = ("number", "date", "time", "moment", "duration", "any", "empty", "text")
CHANGE = thing("change", {"field": TEXT, "old": ANY, "new": ANY})


class Inference:
    """Tells types within one file and records the faults it meets."""

    def __init__(self, faults: FaultList, people: Container[str] = ()) -> None:
        self.faults = faults
        self._people = people

    def type_of(self, node: tree.Node, names: Names, *, shown: bool = False) -> Type:
        """The type of a value. ``shown`` tells that only its text counts, so that a doubtful cell does no harm.

        Raises TypeError for a node of no known class.
        """
        match node:
            case tree.Literal():
                return EMPTY if node.value is None else Type(kind_of(node.value) or "any")  # type: ignore[arg-type]
            case tree.Text():
                for line in node.lines:
                    for part in line:
                        if isinstance(part, tree.Node):
                            self.refuse_thing(part, self.type_of(part, names, shown=True))
                            self.refuse_hidden_column(part, names)
                return TEXT
            case tree.Name():
                return self._name(node, names, shown)
            case tree.Field():
                return self._field(node, names, shown)
            case tree.Call():
                return self._call(node, names)
            case tree.ListOf():
                items = [self.type_of(item, names) for item in node.items]
                inner = [kind.item or ANY if kind.name == "list" else kind for kind in items]
                return list_of(_common(inner))
            case tree.Each():
                return self._each(node, names)
            case Sorted() | Top() | Unique() | Grouped():
                return type_of_list(self, node, names)
            case tree.Choice():
                self.condition(node.condition, names)
                otherwise = self.type_of(node.otherwise, names, shown=shown) if node.otherwise else EMPTY
                return join_types(self.type_of(node.then, names, shown=shown), otherwise)
            case tree.At():
                self.want(node.day, names, DATE, "before at stands a date")
                self.want(node.clock, names, TIME, "after at stands a time")
                return MOMENT
            case tree.Span():
                for amount, unit in node.pieces:
                    self.want(amount, names, NUMBER, f"before {unit}s stands a number")
                return DURATION
            case tree.WorkingSpan():
                self.want(node.amount, names, NUMBER, "before working days stands a number")
                return WORKING_DAYS
            case tree.Offset():
                self.want(node.span, names, DURATION, "before this word stands a duration")
                return OFFSET
            case tree.Shown():
                return self._shown(node, names)
            case tree.InZone():
                self.want(node.value, names, MOMENT, "in zone shows a moment")
                self.want(node.zone, names, TEXT, "a zone is a text")
                return MOMENT
            case tree.Sum():
                return self._sum(node, names)
            case tree.Minus():
                return self.want(node.value, names, NUMBER, "minus stands before a number")
            case tree.Several() if node.joined_by == "or" and not isinstance(node.conditions[0], tree.CONDITIONS):
                kinds = [self.type_of(each, names, shown=shown) for each in node.conditions]
                return reduce(join_types, kinds)
            case _ if isinstance(node, tree.CONDITIONS):
                self.condition(node, names)
                return YES_NO
            case tree.Repeat():
                if node.until is not None:
                    self.want(node.until, names, MOMENT, "after until stands a date")
                return TEXT
        raise TypeError(node)

    def refuse_thing(self, node: tree.Node, given: Type) -> None:
        """A thing where a text is shown: it has fields, and one of them is meant."""
        kind = given.item if given.name == "list" and given.item is not None else given
        if kind.name != "thing":
            return
        one = next(
            (word for word in ("title", "text", "field") if word in kind.fields), next(iter(kind.written), "FIELD")
        )
        said = tree.written(node) or "NAME"
        if kind is given:
            self.faults.add(node.spot, f"{with_article(str(given))} is no text", f"one of its fields is: {said}.{one}")
        else:
            said = f'{{each one in {said}: "{{one.{one}}}"}}'
            self.faults.add(node.spot, "a list of things is no text", f"a text of each of them is: {said}")

    def refuse_hidden_column(self, node: tree.Node, names: Names) -> None:
        """A bare yes or no where a column of that name is meant: the word comes first, so it is never reached."""
        if isinstance(node, tree.Literal) and isinstance(node.value, bool) and names.subject is not None:
            word = "yes" if node.value else "no"
            if word in names.subject.fields:
                fix = f"the column is written {names.subject_word}.{word.capitalize()}"
                self.faults.add(node.spot, f'"{word}" is a word of the language here, not the column', fix)

    def want(self, node: tree.Node, names: Names, wanted: Type, why: str) -> Type:
        """The type of a value that must be of a certain type; a fault if it cannot be."""
        given = self.type_of(node, names)
        if not fits(given, wanted):
            self.faults.add(
                node.spot, f"{why}, and this is {with_article(str(given))}", self._fix(node, given, wanted, names)
            )
        return given

    def _fix(self, node: tree.Node, given: Type, wanted: Type, names: Names) -> str:
        column = self._column_of(node, names)
        if column is not None and given.name == "text" and column.sample:
            place = names.place.name if names.place else ""
            return (
                f'{place}, {column.sample}; say what the column holds: kinds = {{ "{column.name}" = "{wanted.name}" }}'
            )
        return other_type(node, given, wanted)

    def _column_of(self, node: tree.Node, names: Names) -> ColumnInfo | None:
        if names.place is None:
            return None
        if isinstance(node, tree.Name):
            return names.place.by_word.get(fold_name(node.word))
        if isinstance(node, tree.Field) and isinstance(node.of, tree.Name) and node.of.word == names.subject_word:
            return names.place.by_word.get(fold_name(node.word))
        return None

    # --- names

    def _name(self, node: tree.Name, names: Names, shown: bool) -> Type:
        word = fold_name(node.word)
        if word in VALUE_WORDS and not node.is_column:
            return self._value_word(node, word, names)
        if word in names.first and not node.is_column:
            return names.first[word]
        if names.place is not None and word in {fold_name(twice) for twice in names.place.twice}:
            self._twice(node.spot, word, names.place)
            return ANY
        if (subject := names.subject) is not None and (field := renewed(node, subject, self.faults)) in subject.fields:
            if word in names.given and not names.is_look_up:
                fix = f"write {names.subject_word}.{node.as_written}, or give the other one another name"
                self.faults.add(node.spot, f'"{node.as_written}" is a field of {names.subject} and a given name', fix)
            return self._column_use(node.spot, subject.fields[field], self._column_of(node, names), names, shown)
        if word in names.given:
            return names.given[word]
        if word == names.subject_word and names.subject is not None:
            return names.subject
        self._unknown(node, word, names)
        return ANY

    def _value_word(self, node: tree.Name, word: str, names: Names) -> Type:
        if word not in names.words:
            reason = {
                "reason": "reason is known in failure blocks only",
                "changes": "changes is known where a trigger tells of changes",
            }.get(word, f'"{word}" has no value in this workflow')
            self.faults.add(node.spot, reason)
            return ANY
        known = {"now": MOMENT, "today": DATE, "tomorrow": DATE, "reason": TEXT, "none": EMPTY, "happened": TEXT}
        if word == "old":
            return names.given.get("old") or names.subject or ANY
        return list_of(CHANGE) if word == "changes" else known.get(word, ANY)

    def _unknown(self, node: tree.Name, word: str, names: Names) -> None:
        if word in names.lost:
            self.faults.add(node.spot, f'"{node.as_written}" is not known here: {names.lost[word]}')
            return
        if names.subject is not None and names.subject.name == "any":
            return  # the place could not be read, which is said already
        known = [*names.given, *(names.subject.written if names.subject else ()), *_MEANT]
        where = f" in {names.place.name}" if names.place is not None and not node.is_column else ""
        what = (
            f'there is no column or name "{node.as_written}"{where}'
            if names.place
            else f'there is no name "{node.as_written}"'
        )
        fix = unknown_word(word, self._people) or nearest(node.as_written, known)
        if not fix:
            shown = f"; whenvoca read sheet shows the columns of {names.place.name}" if names.place else ""
            fix = as_text(node.as_written) + shown
        if names.is_look_up:
            owner = next((name for name in ("row", "event") if word in names.given.get(name, ANY).fields), "")
            fix = f"here the subject is written in full: {owner}.{node.as_written}" if owner else fix
        self.faults.add(node.spot, what, fix)

    def _twice(self, spot: Spot, word: str, place: PlaceInfo) -> None:
        name, cells = next((name, cells) for name, cells in place.twice.items() if fold_name(name) == word)
        self.faults.add(
            spot, f'two columns of {place.name} stand for "{name}": {cells}', "rename one of them in the sheet"
        )

    def _column_use(self, spot: Spot, kind: Type, column: ColumnInfo | None, names: Names, shown: bool) -> Type:
        if column is not None and column.status != "ok" and not shown:
            state = "can be read in two ways" if column.status == "ambiguous" else "is written in more than one way"
            self.faults.add(spot, f'the column "{column.name}" {state}: {column.doubt}', column.fix, in_data=True)
        return kind

    def _field(self, node: tree.Field, names: Names, shown: bool) -> Type:
        of = node.of
        if isinstance(of, tree.Name) and not of.is_column:
            word = fold_name(of.word)
            owner = self._thing(of, word, names)
        else:
            owner = self.type_of(of, names)
        if owner.name in ("any", "empty"):
            return ANY
        field_word = fold_name(node.word)
        if owner.name != "thing" and not owner.fields:
            self.faults.add(of.spot, f"before a dot stands a thing, and this is {with_article(str(owner))}")
            return ANY
        twice = {fold_name(name) for name in names.place.twice} if names.place is not None else set()
        if owner is names.subject and names.place is not None and field_word in twice:
            self._twice(node.spot, field_word, names.place)
            return ANY
        field_word = renewed(node, owner, self.faults)
        if field_word in owner.fields:
            return self._column_use(node.spot, owner.fields[field_word], self._column_of(node, names), names, shown)
        self.faults.add(
            node.spot,
            f'{with_article(str(owner))} has no field "{node.as_written}"',
            nearest(node.as_written, owner.written),
        )
        return ANY

    def _thing(self, node: tree.Name, word: str, names: Names) -> Type:
        """What stands before a dot: always a thing, never a column."""
        if word in names.first:
            return names.first[word]
        if word == names.subject_word and names.subject is not None:
            return names.subject
        if word in names.given:
            return names.given[word]
        if word == "old":
            if word in names.words:
                return (names.given.get("old") or names.subject) or ANY
            self.faults.add(node.spot, "old has no value here: nothing stood before what is gained")
            return ANY
        if word in names.lost:
            self.faults.add(node.spot, f'"{node.as_written}" is not known here: {names.lost[word]}')
            return ANY
        known = [*names.given, *([names.subject_word] if names.subject_word else [])]
        is_column = names.subject is not None and word in names.subject.fields
        message = (
            f'"{node.as_written}" is a column, and before a dot stands a thing'
            if is_column
            else f'there is no "{node.as_written}"'
        )
        self.faults.add(node.spot, message, nearest(node.as_written, known))
        return ANY

    # --- operations

    def _each(self, node: tree.Each, names: Names) -> Type:
        source = self.type_of(node.source, names)
        if source.name not in ("list", "any", "empty"):
            self.faults.add(node.source.spot, f"each goes through a list, and this is {with_article(str(source))}")
        inner = names.with_name(node.name, source.item or ANY)
        if node.condition is not None:
            self.condition(node.condition, inner)
        return list_of(self.type_of(node.value, inner))

    def _call(self, node: tree.Call, names: Names) -> Type:
        given = [self.type_of(argument, names) for argument in node.arguments]
        wanted = {"join": (1, 2), "split": (1, 2), "round": (1, 2)}.get(node.function, (1, 1))
        if not wanted[0] <= len(given) <= wanted[1]:
            count = "one value" if wanted[1] == 1 else "one or two values"
            self.faults.add(node.spot, f"{node.function} takes {count}, not {len(given)}")
            return ANY
        first = given[0]
        if node.function in ("count", "sum", "first", "last", "join") and first.name not in ("list", "any", "empty"):
            self.faults.add(
                node.arguments[0].spot, f"{node.function} takes a list, and this is {with_article(str(first))}"
            )
        match node.function:
            case "count" | "round" | "number":
                return NUMBER
            case "sum" | "first" | "last":
                return first.item or ANY
            case "split":
                return list_of(TEXT)
        return TEXT

    def _shown(self, node: tree.Shown, names: Names) -> Type:
        given = self.type_of(node.value, names)
        if given.name == "number":
            if not set(node.form) & set("0#"):
                said = f'{node.form}"' if node.form.startswith('"') else node.form
                self.faults.add(node.value.spot, f"a number cannot be shown as {said}", 'such as "0.0"')
        elif given.name not in ("date", "time", "moment", "any", "empty"):
            said = f"as shows a date, time, moment or number, and this is {with_article(str(given))}"
            self.faults.add(node.value.spot, said)
        if node.form.startswith('"'):
            return TEXT
        if (given.name, node.form) in (("time", "date"), ("date", "time")):
            self.faults.add(node.value.spot, f"{with_article(str(given))} has no {node.form}")
        return DATE if node.form == "date" else TIME

    def _sum(self, node: tree.Sum, names: Names) -> Type:
        left, right = self.type_of(node.left, names), self.type_of(node.right, names)
        if "any" in (left.name, right.name):
            return ANY if left.name == "any" else left
        if "empty" in (left.name, right.name):
            return EMPTY
        result = _SUMS.get((left.name, node.sign, right.name))
        if result is None:
            joined = {"+": "added to", "-": "taken from", "*": "multiplied by", "/": "divided by"}[node.sign]
            first, second = (right, left) if node.sign in "+-" else (left, right)
            said = f"{with_article(str(first))} cannot be {joined} {with_article(str(second))}"
            self.faults.add(node.spot, said, sum_slip(node, left, right))
            return ANY
        return result

    # --- conditions

    def condition(self, node: tree.Node, names: Names) -> None:
        """Checks a condition: its parts, and that it is one."""
        match node:
            case tree.Several():
                for each in node.conditions:
                    self.condition(each, names)
            case tree.Not():
                self.condition(node.condition, names)
            case tree.IsEmpty():
                self.type_of(node.value, names, shown=True)
            case tree.IsOneOf():
                self.type_of(node.value, names)
                for item in node.items:
                    self._compare(node.value, item, "is", names)
            case tree.Between():
                self._compare(node.value, node.low, "between", names)
                self._compare(node.value, node.high, "between", names)
            case tree.Compare():
                self._compare(node.left, node.right, node.relation, names)
            case _:
                given = self.type_of(node, names)
                if given.name not in ("yes-no", "any", "empty"):
                    fix = "a condition compares: Answer is empty, Pupils > 20"
                    self.faults.add(node.spot, f"this is {with_article(str(given))} and no condition", fix)

    def _compare(self, left: tree.Node, right: tree.Node, relation: str, names: Names) -> None:
        said = tree.written(right)
        if said and fold_name(said) == fold_name(tree.written(left)):
            known = [word for word in ("row", "event", "task", "message", "entry", "call") if word in names.given]
            fix = (
                f"in where a bare name is of what is looked for; that of the {known[0]}: {known[0]}.{said}"
                if known
                else ""
            )
            self.faults.add(right.spot, f"{said} is compared with itself", fix if names.is_look_up else "")
            return
        is_textual = relation in ("contains", "begins with", "ends with", "like", "is")
        first = self.type_of(left, names, shown=is_textual and isinstance(right, tree.Text))
        second = self.type_of(right, names, shown=is_textual and isinstance(left, tree.Text))
        if relation in ("begins with", "ends with", "like"):
            if first.name not in ("text", "any", "empty", "list"):
                self.faults.add(left.spot, f"{relation} asks a text, and this is {with_article(str(first))}")
            return
        if relation == "contains":
            if first.name not in ("text", "list", "any", "empty"):
                self.faults.add(left.spot, f"contains asks a text or a list, and this is {with_article(str(first))}")
            return
        if relation != "is" and not (first.name in _ORDERED and second.name in _ORDERED):
            culprit = left if first.name not in _ORDERED else right
            self.faults.add(culprit.spot, f"{with_article(str(first if culprit is left else second))} has no order")
            return
        if not _comparable(first, second, relation):
            fix = (
                "a date is written 2027-03-17, without quotes" if {first.name, second.name} & {"date", "moment"} else ""
            )
            self.faults.add(
                right.spot,
                f"{with_article(str(first))} is never {with_article(str(second))}"
                if relation == "is"
                else f"{with_article(str(first))} cannot be compared with {with_article(str(second))}",
                fix,
            )


_SUMS: dict[tuple[str, str, str], Type] = {
    ("number", "+", "number"): NUMBER,
    ("number", "-", "number"): NUMBER,
    ("number", "*", "number"): NUMBER,
    ("number", "/", "number"): NUMBER,
    ("date", "+", "duration"): DATE,
    ("date", "-", "duration"): DATE,
    ("moment", "+", "duration"): MOMENT,
    ("moment", "-", "duration"): MOMENT,
    ("date", "+", "working-days"): DATE,
    ("date", "-", "working-days"): DATE,
    ("moment", "+", "working-days"): MOMENT,
    ("moment", "-", "working-days"): MOMENT,
    ("date", "-", "date"): DURATION,
    ("moment", "-", "moment"): DURATION,
    ("moment", "-", "date"): DURATION,
    ("date", "-", "moment"): DURATION,
    ("duration", "+", "duration"): DURATION,
    ("duration", "-", "duration"): DURATION,
    ("duration", "*", "number"): DURATION,
    ("number", "*", "duration"): DURATION,
    ("duration", "/", "number"): DURATION,
    ("duration", "/", "duration"): NUMBER,
    ("duration", "+", "moment"): MOMENT,
    ("duration", "+", "date"): DATE,
    ("time", "-", "time"): DURATION,
}


def _comparable(first: Type, second: Type, relation: str) -> bool:
    pair = {first.name, second.name}
    if pair & {"any", "empty"} or first.name == second.name or pair == {"date", "moment"}:
        return True
    if "list" in pair:
        return relation == "is"
    return relation == "is" and "text" in pair and bool(pair & {"number", "yes-no"})


def _common(kinds: list[Type]) -> Type:
    return kinds[0] if kinds and all(kind == kinds[0] for kind in kinds) else ANY
