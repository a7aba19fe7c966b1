"""What stands below a step: its fields and columns, each held against what it takes."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from whenvoca.errors import SettingsFault
from whenvoca.language import tree
from whenvoca.language.colours import COLOURS
from whenvoca.language.definitions import FieldDefinition, PlaceInfo
from whenvoca.language.faults import FaultList, Spot, nearest, with_article
from whenvoca.language.inference import Inference
from whenvoca.language.names import Names, fold_name, row_type
from whenvoca.language.slips_in_lines import other_field
from whenvoca.language.types import ANY, DATE, DURATION, MOMENT, NUMBER, OFFSET, TEXT, TIME, YES_NO, Type, fits, of_kind
from whenvoca.language.value_kinds import VALUE_KINDS, kind_in
from whenvoca.language.written_fields import WRITTEN, ends_of, weekdays_of, words_of
from whenvoca.values.addresses import is_address, split_addresses
from whenvoca.values.zones import load_zone

_HIDING = ("yes", "no", "empty", "none", "now", "today", "tomorrow", "old", "changes", "happened", "reason")
_WANTED = {"number": NUMBER, "yes-no": YES_NO, "date": DATE, "time": TIME, "moment": MOMENT, "duration": DURATION}


class FieldContext(Struct, frozen=True):
    """What stands around a workflow: places by lower-case name, and the people's names."""

    places: Mapping[str, PlaceInfo]
    people: frozenset[str] = frozenset()
    event_type: Callable[[PlaceInfo], Type] = lambda place: ANY
    task_type: Callable[[PlaceInfo], Type] = lambda place: ANY


class FieldChecks:
    """The checks of fields, columns and the texts written out in them."""

    def __init__(self, faults: FaultList, around: FieldContext) -> None:
        self._faults = faults
        self._around = around
        self._infer = Inference(faults, around.people)

    def _step_fields(self, step: tree.Step, place: PlaceInfo | None, names: Names) -> None:
        definition = step.definition
        standing = {line.word: line.spot for line in step.fields}
        for line in step.fields:
            known = definition.field(line.word)
            if known is not None:
                self._field_value(known, line, names)
            elif definition.kinds_as_fields:
                if kind_in(line.value) is None:
                    said = f"{line.as_written} has no kind that there is"
                    self._faults.add(line.value.spot, said, f"one of: {', '.join(VALUE_KINDS)}; or empty may follow")
            elif definition.columns_as_fields:
                self._column_value(line, place, names)
            else:
                self._infer.type_of(line.value, names)
                known_fields = [each.name for each in definition.fields]
                fix = other_field(line.as_written, known_fields) or nearest(line.as_written, known_fields)
                self._faults.add(line.spot, f'"{definition.verb}" has no field "{line.as_written}"', fix)
        if definition.kinds_as_fields and not step.fields:
            self._faults.add(step.spot, "no field is named below this step", "such as: Day date")
        if (
            definition.columns_as_fields
            and not definition.columns_optional
            and all(definition.field(line.word) for line in step.fields)
        ):
            self._faults.add(
                step.spot, "no column is named below this step", "below it stands a line for each column to be written"
            )
        if definition.check_fields is not None:
            for word, message, fix in definition.check_fields(standing):
                self._faults.add(standing.get(word, step.spot), message, fix)

    def _column_value(self, line: tree.FieldLine, place: PlaceInfo | None, names: Names) -> None:
        given = self._infer.type_of(line.value, names, shown=True)
        self._infer.refuse_thing(line.value, given)
        if line.word in ("yes", "no"):
            self._infer.refuse_hidden_column(line.value, names)
        self._note_hidden_column(line.value, names)
        if place is None or place.columns is None:
            return
        word = fold_name(line.word)
        twice = {fold_name(name): cells for name, cells in place.twice.items()}
        if word in twice:
            self._faults.add(
                line.spot,
                f'two columns of {place.name} stand for "{line.as_written}": {twice[word]}',
                "rename one of them in the sheet",
            )
            return
        column = place.by_word.get(word)
        if column is None:
            fix = other_field(line.as_written, place.by_word) or nearest(line.as_written, row_type(place).written)
            self._faults.add(line.spot, f'there is no column "{line.as_written}" in {place.name}', fix)
        elif column.declared and not fits(given, of_kind(column.kind)) and column.kind != "text":
            self._faults.add(
                line.value.spot,
                f'the column "{column.name}" holds {column.kind}s, and this is {with_article(str(given))}',
            )

    def _note_hidden_column(self, node: tree.Node, names: Names) -> None:
        """A word of the language that is also the heading of a column of the subject: the word is written."""
        is_word = isinstance(node, tree.Literal) or (isinstance(node, tree.Name) and not node.is_column)
        if names.place is None or not is_word:
            return
        word = self._faults.text_at(node.spot)
        column = names.place.by_word.get(fold_name(word))
        if column is not None and fold_name(word) in _HIDING and column.name == word:
            said = f'"{word}" is a word of the language here; the column is written: column "{word}"'
            self._faults.add_note(node.spot, said)

    def _field_value(self, known: FieldDefinition, line: tree.FieldLine, names: Names) -> None:
        node = line.value
        if known.check is not None and (wrong := known.check(node)) is not None:
            self._faults.add(node.spot, *wrong)
        if known.given:
            names = replace(names, first=known.given)
        if known.type in WRITTEN:
            self._written_field(known, node, names)
            return
        if known.type in _WANTED:
            self._infer.want(
                node, names, _WANTED[known.type], f"{known.name} takes {with_article(str(_WANTED[known.type]))}"
            )
            if known.span is not None and isinstance(node, tree.Literal) and not _is_within(node.value, known.span):
                low, high = known.span
                self._faults.add(node.spot, f"{known.name} is a whole number from {low} to {high}")
            return
        if known.type == "choice" and isinstance(node, tree.Name) and not self._is_known(node, names):
            self._faults.add(
                node.spot, f'{known.name} is never "{node.as_written}"', f"it is one of: {', '.join(known.choices)}"
            )
            return
        given = self._infer.type_of(node, names, shown=known.type == "text")
        if known.type in ("text", "value"):
            self._note_hidden_column(node, names)
        match known.type:
            case "reminders":
                item = given.item if given.name == "list" and given.item else given
                if not fits(item, OFFSET):
                    said = tree.span_text(node) or "25 minutes"
                    fix = f"written: {said} before" + (", or none" if item.name != "duration" else "")
                    self._faults.add(
                        node.spot,
                        f"{known.name} takes a duration before or after the start, and this is "
                        f"{with_article(str(given))}",
                        fix,
                    )
            case "people":
                item = given.item if given.name == "list" and given.item else given
                if not fits(item, TEXT):
                    self._faults.add(node.spot, f"{known.name} takes names, and this is {with_article(str(given))}")
                self._check_people(node, may_be_address=not known.is_known)
            case "addresses":
                item = given.item if given.name == "list" and given.item else given
                if not fits(item, TEXT):
                    self._faults.add(node.spot, f"{known.name} takes addresses, and this is {with_article(str(given))}")
                self._check_addresses(node)
            case "choice":
                self._check_choice(known, node, given)
            case "texts":
                for each in node.items if isinstance(node, tree.ListOf) else (node,):
                    self._check_choice(known, each, self._infer.type_of(each, names))
            case "zone" | "colour" | "repeat":
                if not fits(given, TEXT):
                    self._faults.add(node.spot, f"{known.name} takes a text, and this is {with_article(str(given))}")
                elif (text := tree.plain_text(node)) is not None:
                    self._check_word(known, text, node.spot)

    def _written_field(self, known: FieldDefinition, node: tree.Node, names: Names) -> None:
        """A field that is written in a form of its own."""
        if known.type == "between":
            if (ends := ends_of(node)) is None:
                self._faults.add(node.spot, f"{known.name} takes two times of day", "such as 09:00 and 17:00")
            for end in ends or ():
                self._infer.want(end, names, TIME, f"{known.name} takes times of day")
        elif known.type == "weekdays":
            if weekdays_of(node) is None:
                fix = "such as weekdays, or monday, friday"
                self._faults.add(node.spot, f"{known.name} takes days of the week", fix)
        elif known.type == "choices":
            for word, each in words_of(node) or (("", node),):
                if word.lower() not in known.choices:
                    fix = f"one or several of: {', '.join(known.choices)}"
                    self._faults.add(each.spot, f'{known.name} is never "{word}"', fix)
        else:
            calendars = [each.name for each in self._around.places.values() if each.kind == "calendar"]
            lower = {name.lower() for name in calendars}
            if (words := words_of(node)) is None:
                self._faults.add(node.spot, f"{known.name} takes names of calendars")
            for word, each in words or ():
                if word.lower() not in lower:
                    self._faults.add(each.spot, f'there is no calendar "{word}"', nearest(word, calendars))

    def _is_known(self, node: tree.Name, names: Names) -> bool:
        word = fold_name(node.word)
        return word in names.given or (names.subject is not None and word in names.subject.fields)

    def _check_choice(self, known: FieldDefinition, node: tree.Node, given: Type) -> None:
        text = tree.plain_text(node)
        if isinstance(node, tree.Literal) and isinstance(node.value, bool):
            text = "yes" if node.value else "no"
        if text is not None and text not in known.choices:
            self._faults.add(node.spot, f'{known.name} is never "{text}"', f"it is one of: {', '.join(known.choices)}")
        elif not fits(given, TEXT) and given.name != "yes-no":
            self._faults.add(
                node.spot,
                f"{known.name} takes one of {', '.join(known.choices)}, and this is {with_article(str(given))}",
            )

    def _check_addresses(self, node: tree.Node) -> None:
        for each in node.items if isinstance(node, tree.ListOf) else (node,):
            text = tree.plain_text(each)
            for piece in split_addresses(text) if text else ():
                if not is_address(piece) and piece.lower() not in self._around.people:
                    self._faults.add(
                        each.spot,
                        f'"{piece}" is neither an email address nor a name from [people]',
                        nearest(piece, self._around.people),
                    )

    def _check_word(self, known: FieldDefinition, text: str, spot: Spot) -> None:
        if known.type == "zone":
            self._check_zone(text, spot)
        elif known.type == "colour" and text.lower() not in COLOURS:
            self._faults.add(spot, f'"{text}" is no colour name of CSS', nearest(text, COLOURS))
        elif known.type == "repeat":
            from whenvoca.language.repeats import NoRepeat, parse_repeat, split_until

            try:
                parse_repeat(split_until(text)[0])
            except NoRepeat as error:
                self._faults.add(spot, str(error))

    def _check_zone(self, name: str, spot: Spot) -> None:
        try:
            load_zone(name)
        except SettingsFault as error:
            self._faults.add(spot, error.message, error.fix)

    def _check_people(self, node: tree.Node, *, may_be_address: bool = True) -> None:
        for each in node.items if isinstance(node, tree.ListOf) else (node,):
            text = tree.plain_text(each)
            for piece in split_addresses(text) if text else ():
                if piece.lower() not in self._around.people and not (may_be_address and is_address(piece)):
                    fix = nearest(piece, self._around.people)
                    self._faults.add(each.spot, f'there is nobody "{piece}" in [people]', fix)


def _is_within(value: Any, span: tuple[int, int]) -> bool:
    return isinstance(value, int) and not isinstance(value, bool) and span[0] <= value <= span[1]
