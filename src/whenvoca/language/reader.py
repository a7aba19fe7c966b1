"""From a file's text to its tree: settings, trigger, statements, fields. Faults are collected, never raised."""

from __future__ import annotations

import re
from collections.abc import Mapping
from types import MappingProxyType
from typing import Any

from msgspec import Struct, field
from msgspec.structs import replace

from whenvoca.language import tree
from whenvoca.language.ask_lines import read_ask
from whenvoca.language.definitions import (
    HAPPENINGS,
    FieldDefinition,
    StepDefinition,
    Vocabulary,
    match_sentence,
    place_kind_of,
)
from whenvoca.language.expressions import WORDS, read_condition, read_value
from whenvoca.language.faults import FaultList, Spot, nearest
from whenvoca.language.lines import Line, read_lines
from whenvoca.language.old_words import DATED, FIELDS, new_field, new_sentence
from whenvoca.language.repeat_lines import read_repeat
from whenvoca.language.sentence_slots import read_slots, refuse_sentence
from whenvoca.language.settings_lines import SETTINGS, constant_of, read_setting, to_settings, value_pieces
from whenvoca.language.slips_in_lines import (
    field_word,
    is_field_of,
    line_slip,
    name_given,
    other_trigger,
    remark_slip,
    trigger_slip,
    without_then,
)
from whenvoca.language.tokens import Piece

_WORD = re.compile(r'["“„][^"”“]*["”]|[^\s,]+|,')
_FIELD = re.compile(r'(column\s+"(?P<column>[^"]+)"|(?P<word>\S+))(?P<gap>\s*)')
_LET = re.compile(r"let\s+(?P<name>\S+)\s*(?P<sign>=?)\s*", re.IGNORECASE)
_NAME = re.compile(r"[^\W\d]\w*(?:-\w+)*\Z")
_FORMERLY = FieldDefinition("formerly", "text", "the name that this step had before")


def read_workflow(
    name: str, file: str, text: str, vocabulary: Vocabulary, former_places: Mapping[str, str] = MappingProxyType({})
) -> tuple[tree.Workflow, FaultList]:
    """The workflow of that file, and the faults of its layout and sentences. ``former_places``: what places were
    called first, by their lower-case names of now.

    The tree holds whatever could be read, so that the checker can go on with it and add to the faults.
    """
    faults = FaultList(file, text)
    reader = _WorkflowReader(vocabulary, faults, former_places)
    workflow = replace(reader.read(name, file, read_lines(text, faults)), text=text)
    return workflow, faults


class _TriggerSettings(Struct):
    """The settings of a trigger that were read so far."""

    conditions: list[tree.Node] = field(default_factory=list)
    fields: list[tree.Name] = field(default_factory=list)
    existing: bool | None = None
    values: dict[str, tree.Node] = field(default_factory=dict)


class _WorkflowReader:
    def __init__(self, vocabulary: Vocabulary, faults: FaultList, former_places: Mapping[str, str]) -> None:
        self._vocabulary = vocabulary
        self._former = former_places
        self._faults = faults

    def read(self, name: str, file: str, lines: list[Line]) -> tree.Workflow:
        settings: dict[str, Any] = {}
        trigger = tree.NO_TRIGGER
        seen_trigger = False
        rest: list[Line] = []
        on_failure: tree.Block | None = None
        for line in lines:
            word = line.code.split()[0].lower()
            if word in SETTINGS and not rest:
                if seen_trigger:
                    self._faults.add(
                        line.spot, f"{word} stands below the trigger", "settings stand above the when line"
                    )
                read_setting(line, word, settings, self._faults)
            elif word == "when" and not seen_trigger:
                seen_trigger = True
                trigger = self._read_trigger(line)
                if rest:
                    self._faults.add(line.spot, "the trigger stands below a step", "it comes first, above all steps")
            elif remark := remark_slip(line.code):
                self._faults.add(line.spot, *remark)
            elif not seen_trigger and self._is_trigger_in_other_words(line):
                seen_trigger = True
                rest += line.children
            elif word == "when":
                self._faults.add(line.spot, "a second trigger", "one file holds one workflow with one trigger")
            elif line.code.lower() == "if anything fails":
                if on_failure is not None:
                    self._faults.add(line.spot, '"if anything fails" stands twice', "once is enough")
                on_failure = self._read_block(line)
                if line is not lines[-1]:
                    self._faults.add(
                        line.spot, '"if anything fails" is not the last part', "move it to the end of the file"
                    )
            else:
                rest.append(line)
        if not seen_trigger:
            self._faults.add(None, "there is no trigger", "begin with a line such as: when requests gains a row")
        elif not rest and trigger is not tree.NO_TRIGGER:
            self._faults.add(
                None, "there is no step below the trigger", "say what is to be done, such as: create event in …"
            )
        body = self._read_statements(rest)
        return tree.Workflow(
            name=name, file=file, settings=to_settings(settings), trigger=trigger, body=body, on_failure=on_failure
        )

    # --- settings and trigger

    def _read_trigger(self, line: Line) -> tree.Trigger:
        words = [(found[0], found.start()) for found in _WORD.finditer(line.code)][1:]
        plain = [word for word, _ in words]
        match, furthest = match_sentence(plain, self._vocabulary.triggers)
        if match is None or match.length < len(plain):
            if slip := trigger_slip(" ".join(plain), self._vocabulary.triggers):
                spot = Spot(line.number, line.indent + words[0][1] + 1, len(line.code) - words[0][1])
                self._faults.add(spot, *slip)
                return tree.NO_TRIGGER
            refuse_sentence(
                self._faults,
                line,
                words,
                furthest,
                [each.sentence.shown for each in self._vocabulary.triggers],
                "trigger",
            )
            return tree.NO_TRIGGER
        places, slots = read_slots(line, words, match, self._faults, self._check_name)
        spot = next((node.spot for slot, node in slots.items() if place_kind_of(slot)), line.spot)
        begin, end = match.slots.get("CHANGES", (0, 0))
        said = {word.lower() for word in plain[begin:end]}
        only = match.definition.happening
        happenings = (only,) if only else tuple(word for verb, word in HAPPENINGS.items() if verb in said)
        read = _TriggerSettings()
        for child in line.children:
            word = child.code.split()[0].lower()
            known = next((each for each in match.definition.settings if each.name == word), None)
            if known is None:
                names = [each.name for each in match.definition.settings]
                self._faults.add(
                    self._word_spot(child, word), f'this trigger has no setting "{word}"', nearest(word, names)
                )
            elif pieces := value_pieces(child, len(word))[0]:
                self._read_trigger_setting(read, known, child, pieces)
                if match.definition.subject in DATED:
                    read.fields = [self._renew_name(each) for each in read.fields]
            else:
                self._faults.add(child.spot, f"{word} has no value")
        conditions, fields = tuple(read.conditions), tuple(read.fields)
        return tree.Trigger(
            spot, match.definition, places, happenings, conditions, fields, read.existing, slots, read.values
        )

    def _is_trigger_in_other_words(self, line: Line) -> bool:
        begun = re.sub(r"^(if|on|whenever)\s+", "", line.code, flags=re.IGNORECASE)
        sentence = other_trigger(begun, self._vocabulary.triggers)
        if sentence:
            self._faults.add(line.spot, "a trigger begins with when", f"written: when {sentence}")
        return bool(sentence)

    def _read_trigger_setting(
        self, read: _TriggerSettings, known: FieldDefinition, line: Line, pieces: list[Piece]
    ) -> None:
        word = known.name
        if known.type == "condition":
            if node := read_condition(pieces, self._faults):
                read.conditions.append(node)
        elif known.type == "names":
            read.fields += self._read_names(read_value(pieces, self._faults), word)
        elif known.type != "yes-no":
            if word in read.values:
                self._faults.add(line.spot, f"{word} stands twice", "leave one of them")
            if node := read_value(pieces, self._faults):
                read.values[word] = node
        elif node := read_value(pieces, self._faults):
            value = constant_of(node)
            if not isinstance(value, bool):
                self._faults.add(node.spot, f"{word} takes yes or no")
            else:
                read.existing = value

    def _read_names(self, node: tree.Node | None, word: str) -> list[tree.Name]:
        found = []
        for each in node.items if isinstance(node, tree.ListOf) else [node] if node else []:
            if isinstance(each, tree.Name):
                found.append(each)
            else:
                self._faults.add(each.spot, f"{word} takes names, with commas between")
        return found

    def _renew_name(self, name: tree.Name) -> tree.Name:
        new = FIELDS.get(name.word)
        if new is None:
            return name
        self._faults.add_old(name.spot, name.as_written, new)
        return tree.Name(name.spot, new, new)

    def _word_spot(self, line: Line, word: str) -> Spot:
        return Spot(line.number, line.indent + 1, len(word))

    # --- statements

    def _read_block(self, line: Line) -> tree.Block:
        if not line.children:
            self._faults.add(line.spot, "nothing stands below this line", "indent below it what is to be done")
        return self._read_statements(line.children)

    def _read_statements(self, lines: list[Line]) -> tree.Block:
        statements: list[tree.Statement] = []
        for line in lines:
            code = line.code.lower()
            if code == "if it fails":
                self._attach_failure(line, statements)
            elif re.match(r"else\b", code):
                self._attach_branch(line, statements)
            elif statements and is_field_of(statements[-1], line, self._vocabulary):
                statements[-1] = self._take_in(statements[-1], line)
            elif statement := self._read_statement(line, code):
                statements.append(statement)
        return tree.Block(tuple(statements))

    def _take_in(self, step: tree.Statement, line: Line) -> tree.Statement:
        assert isinstance(step, tree.Step)
        word = line.code.split()[0]
        self._faults.add(
            self._word_spot(line, word),
            f"{word} stands beside its step",
            "indent it: what belongs to a step is below it",
        )
        fields, conditions, _ = self._read_fields([line], step.definition)
        return replace(step, fields=(*step.fields, *fields), conditions=(*step.conditions, *conditions))

    def _attach_failure(self, line: Line, statements: list[tree.Statement]) -> None:
        block = self._read_block(line)
        if not statements or not isinstance(statements[-1], tree.Step):
            self._faults.add(
                line.spot, "no step stands directly above", '"if it fails" belongs below a step, at its depth'
            )
        elif statements[-1].on_failure is not None:
            self._faults.add(line.spot, '"if it fails" stands twice below one step')
        else:
            statements[-1] = replace(statements[-1], on_failure=block)

    def _attach_branch(self, line: Line, statements: list[tree.Statement]) -> None:
        block = self._read_block(line)
        above = statements[-1] if statements else None
        if not isinstance(above, tree.If) or above.branches[-1][0] is None:
            self._faults.add(line.spot, "no if stands directly above", "else belongs below an if, at its depth")
            return
        condition: tree.Node | None = None
        if line.code.lower() != "else":
            found = re.match(r"else\s+if\b", line.code, re.IGNORECASE)
            if not found:
                self._faults.add(line.spot, "after else nothing stands, or: else if CONDITION")
                return
            condition = self._read_condition(line, found.end())
            if condition is None:
                return
        statements[-1] = replace(above, branches=(*above.branches, (condition, block)))

    def _read_condition(self, line: Line, offset: int) -> tree.Node | None:
        if not line.code[offset:].strip():
            self._faults.add(line.spot, "a condition is missing")
            return None
        return read_condition([Piece(line.code[offset:], line.number, line.indent + offset + 1)], self._faults)

    def _read_statement(self, line: Line, code: str) -> tree.Statement | None:
        word = code.split()[0]
        if word == "let":
            return self._read_let(line)
        if word == "ask":
            return read_ask(line, self._faults, self._check_name) or self._unread(line)
        if word == "if" and code != "if anything fails":
            line = without_then(line, self._faults)
            block = self._read_block(line)
            condition = self._read_condition(line, 2)
            return tree.If(line.spot, ((condition, block),)) if condition else None
        if code == "if anything fails":
            self._faults.add(line.spot, '"if anything fails" is indented', "it stands once, last, at the left edge")
            return None
        if re.match(r"for\s+each\b", code):
            return self._read_for_each(line)
        if code == "stop":
            return tree.Stop(line.spot)
        if word == "fail":
            pieces, block_text = value_pieces(line, 4)
            if not pieces:
                self._faults.add(line.spot, "the reason is missing", 'written: fail "There is no such visit"')
                return None
            node = read_value(pieces, self._faults, block_text)
            return tree.Fail(line.spot, node) if node else None
        return self._read_step(line)

    def _read_let(self, line: Line) -> tree.Statement | None:
        found = _LET.match(line.code)
        if not found or not found["sign"]:
            self._faults.add(line.spot, "this let is not understood", "written: let NAME = VALUE")
            return self._unread(line)
        name = found["name"]
        self._check_name(name, Spot(line.number, line.indent + found.start("name") + 1, len(name)))
        if line.code.startswith("=", found.end()):
            self._faults.add(line.spot, "let has one = and no more", f"written: let {name} = VALUE")
            return self._unread(line)
        pieces, block = value_pieces(line, found.end())
        if not pieces:
            self._faults.add(line.spot, "a value is missing after =")
            return None
        node = read_value(pieces, self._faults, block) or tree.Literal(line.spot, None)
        return tree.Let(line.spot, name.lower(), node)

    def _check_name(self, name: str, spot: Spot) -> None:
        if not _NAME.match(name):
            self._faults.add(spot, f"{name} is no name", "a name is one word of letters, digits and hyphens")
        elif name.lower() in WORDS:
            self._faults.add(spot, f'"{name}" is a word of the language', "choose another name")

    def _read_for_each(self, line: Line) -> tree.Statement | None:
        block = self._read_block(line)
        found = re.match(r"for\s+each\s+(\S+)\s+in\b\s*", line.code, re.IGNORECASE)
        if not found or not line.code[found.end() :].strip():
            self._faults.add(line.spot, "this repetition is not understood", "written: for each NAME in LIST")
            return None
        self._check_name(found[1], Spot(line.number, line.indent + found.start(1) + 1, len(found[1])))
        piece = Piece(line.code[found.end() :], line.number, line.indent + found.end() + 1)
        node = read_value([piece], self._faults)
        return tree.ForEach(line.spot, found[1].lower(), node, block) if node else None

    # --- steps and their fields

    def _unread(self, line: Line) -> tree.Statement | None:
        name = name_given(line.code)
        return tree.BrokenLine(line.spot, name.lower()) if name else None

    def _read_step(self, line: Line) -> tree.Statement | None:
        words = [(found[0], found.start()) for found in _WORD.finditer(line.code)]
        plain = self._renew_sentence(line, words)
        match, furthest = match_sentence(plain, self._vocabulary.steps)
        if match is None:
            if slip := line_slip(line.code, self._vocabulary):
                self._faults.add(line.spot, *slip)
            else:
                known = [each.sentence.shown for each in self._vocabulary.steps]
                refuse_sentence(self._faults, line, words, furthest, known, "step")
            return self._unread(line)
        name = ""
        tail = plain[match.length :]
        if len(tail) == 2 and tail[0].lower() == "as":
            name = tail[1]
            self._check_name(name, Spot(line.number, line.indent + words[-1][1] + 1, len(name)))
            if match.definition.makes is None:
                self._faults.add(line.spot, f'"{match.definition.verb}" gives nothing that could be named')
        elif tail:
            column = line.indent + words[match.length][1] + 1
            spot = Spot(line.number, column, line.indent + len(line.code) - column + 1)
            fix = (
                "after as stands one name" if tail[0].lower() == "as" else f"written: {match.definition.sentence.words}"
            )
            self._faults.add(spot, f'"{" ".join(tail)}" is not expected here', fix)
        places, slots = read_slots(line, words, match, self._faults, self._check_name)
        fields, conditions, formerly = self._read_fields(line.children, match.definition)
        return tree.Step(
            line.spot,
            match.definition,
            match.definition.identity or match.definition.sentence.literal,
            places,
            slots,
            name,
            fields,
            conditions,
            None,
            formerly,
            tuple(self._former.get(place.lower(), place) for place in places) if self._former else (),
        )

    def _renew_sentence(self, line: Line, words: list[tuple[str, int]]) -> list[str]:
        plain = [word for word, _ in words]
        renewed = new_sentence(plain)
        for (word, offset), new in zip(words, renewed, strict=True):
            if word != new and renewed is not plain and word.lower() != new:
                self._faults.add_old(Spot(line.number, line.indent + offset + 1, len(word)), word, new)
        return renewed

    def _read_fields(
        self, lines: list[Line], definition: StepDefinition
    ) -> tuple[tuple[tree.FieldLine, ...], tuple[tree.Node, ...], str]:
        fields: dict[str, tree.FieldLine] = {}
        conditions: list[tree.Node] = []
        formerly = ""
        for line in lines:
            found = _FIELD.match(line.code)
            assert found is not None
            spot = Spot(line.number, line.indent + 1, len(found[1]))
            written, begin = field_word(line, found, self._faults)
            word = written.lower()
            if not found["column"] and (new := new_field(word, [each.name for each in definition.fields])):
                self._faults.add_old(spot, written, new)
                word = written = new
            known = None if found["column"] else definition.field(word)
            if known is None and word == "formerly" and definition.is_making and not found["column"]:
                known = _FORMERLY
            pieces, block = value_pieces(line, begin)
            if not pieces:
                self._faults.add(spot, f'"{written}" has no value', "a field line is a name, blanks, and a value")
                continue
            node = self._read_field(known, pieces, block) or tree.Literal(spot, None)
            if known is not None and known.type == "condition":
                conditions.append(node)
            elif known is _FORMERLY:
                formerly = str(constant_of(node) or "")
            elif word in fields:
                self._faults.add(spot, f'"{written}" stands twice in this step', "leave one of them")
            else:
                fields[word] = tree.FieldLine(word, written, spot, node)
        return tuple(fields.values()), tuple(conditions), formerly

    def _read_field(
        self, known: FieldDefinition | None, pieces: list[Piece], block: list[str] | None
    ) -> tree.Node | None:
        if known is None:
            return read_value(pieces, self._faults, block)
        code = " ".join(piece.text for piece in pieces).strip()
        if known.type == "condition":
            return read_condition(pieces, self._faults)
        if known.type == "choice" and code.lower() in known.choices:
            spot = Spot(
                pieces[0].line, pieces[0].column + len(pieces[0].text) - len(pieces[0].text.lstrip()), len(code)
            )
            return tree.Text(spot, ((code.lower(),),))
        if known.type == "repeat" and code.lower().startswith("every"):
            return read_repeat(pieces, self._faults)
        return read_value(pieces, self._faults, block)
