"""Checks a workflow against the real places before it runs, and reports every fault at once."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import time

from msgspec.structs import replace

from whenvoca.language import tree
from whenvoca.language.definitions import EVERY_PLACE, FieldDefinition, PlaceInfo, StepDefinition, place_kind_of
from whenvoca.language.faults import Fault, FaultList, Spot, nearest, with_article
from whenvoca.language.field_checks import FieldChecks, FieldContext
from whenvoca.language.names import Names, fold_name, row_type
from whenvoca.language.slips_in_values import other_type
from whenvoca.language.types import ANY, TEXT, Type, fits, list_of
from whenvoca.language.value_kinds import VALUE_KINDS, read_type

_SUBJECTS = (
    "row",
    "event",
    "task",
    "message",
    "entry",
    "call",
    "email",
    "invitation",
    "answer",
    "old",
)  # known where the trigger is not understood: it is said already
_HEARD = {  # what a step answers, with the trigger that tells of it
    "message": "when CHAT hears a message",
    "email": "when MAILBOX receives an email",
    "invitation": "when MAILBOX receives an invitation",
}
_ALL_WORDS = frozenset(["now", "today", "tomorrow", "happened", "old", "changes"])


def check_workflow(workflow: tree.Workflow, faults: FaultList, around: FieldContext) -> list[Fault]:
    """All faults of the workflow: those its reading left in ``faults``, and those against the real places."""
    _Checker(workflow, faults, around).check()
    return faults.sorted()


class _Checker(FieldChecks):
    def __init__(self, workflow: tree.Workflow, faults: FaultList, around: FieldContext) -> None:
        super().__init__(faults, around)
        self._workflow = workflow
        self._making: dict[str, Spot] = {}

    def check(self) -> None:
        """Walks the whole workflow."""
        names = self._trigger_names()
        if zone := self._workflow.settings.zone:
            self._check_zone(zone, Spot(1, 1, 1))
        after = self._block(self._workflow.body, names)
        if self._workflow.on_failure is not None:
            lost = {
                name: "it may not have been reached when the run failed"
                for name in after.given
                if name not in names.given
            }
            self._block(self._workflow.on_failure, replace(names, lost={**names.lost, **lost}).with_words("reason"))

    # --- the trigger

    def _trigger_names(self) -> Names:
        trigger = self._workflow.trigger
        if trigger is tree.NO_TRIGGER:
            return Names(subject=ANY, given=dict.fromkeys(_SUBJECTS, ANY), words=_ALL_WORDS)
        definition = trigger.definition
        kind = next(filter(None, map(place_kind_of, definition.sentence.parts)), "")
        self._trigger_values(trigger)
        if not kind:
            return Names(words=_words_of(trigger))
        found = [self._place(name, trigger.spot, kind, writes=False) for name in self._named(trigger.places, kind)]
        place = found[0] if found else None
        given = {name: kind(place) for name, kind in definition.given.items()}
        names = Names(subject_word=definition.subject, subject=ANY, given=given, words=_words_of(trigger))
        if any(each is None for each in found) or (kind == "sheet" and (place is None or place.columns is None)):
            return names
        names = replace(names, subject=definition.subject_type(place), place=place if kind == "sheet" else None)
        for condition in trigger.conditions:
            self._infer.condition(condition, names)
            if not definition.follows_changes:
                continue
            for word in tree.words_in(condition) & {"now", "today", "tomorrow"}:
                self._faults.add(
                    condition.spot,
                    f"{word} in the where of a set",
                    f"{with_article(definition.subject)} would leave the set by itself; compare with a column or a "
                    "date",
                )
        for each in trigger.fields:
            if "changed" not in trigger.happenings:
                self._faults.add(each.spot, "fields narrow what counts as a change, and this trigger tells of none")
                break
            self._infer.type_of(each, names)
        return names

    def _trigger_values(self, trigger: tree.Trigger) -> None:
        """The moments, days and durations of a trigger: they stand fast, so they are written out."""
        if (node := trigger.slots.get("VALUE")) is not None:
            items = node.items if isinstance(node, tree.ListOf) else (node,)
            for item in items:
                if trigger.definition.value_type == "duration":
                    self._fixed_span(item, "every takes a duration written out, such as 15 minutes")
                elif not (isinstance(item, tree.Literal) and isinstance(item.value, time)):
                    self._faults.add(item.spot, "reads takes a time written out", "such as 16:20")
        for word, node in trigger.settings.items():
            known = next(each for each in trigger.definition.settings if each.name == word)
            if known.type == "duration":
                self._fixed_span(node, f"{word} takes a duration written out, such as 12 minutes")
            else:
                self._said_setting(trigger, known, node)
        if len({"early", "late"} & set(trigger.settings)) > 1:
            self._faults.add(trigger.settings["late"].spot, "early and late do not go together", "leave one of them")

    def _said_setting(self, trigger: tree.Trigger, known: FieldDefinition, node: tree.Node) -> None:
        """People or rooms that a trigger is narrowed to: texts written out, of somebody or something that there is."""
        items = node.items if isinstance(node, tree.ListOf) else (node,)
        for item in items:
            if tree.plain_text(item) is None:
                self._faults.add(item.spot, f"{known.name} takes texts written out", f"such as {known.example}")
        place = self._around.places.get(trigger.places[0].lower()) if trigger.places else None
        if known.type == "people":
            self._check_people(node)
        elif place is not None and place.kind == "chat":
            for item in items:
                if (room := tree.plain_text(item)) is not None and room not in place.rooms:
                    self._faults.add(item.spot, f'{place.name} has no room "{room}"', nearest(room, place.rooms))

    def _fixed_span(self, node: tree.Node, message: str) -> None:
        is_fixed = isinstance(node, tree.Span) and all(
            isinstance(amount, tree.Literal) and amount.value > 0 for amount, _ in node.pieces
        )
        if not is_fixed:
            self._faults.add(node.spot, message)

    def _named(self, places: Sequence[str], kind: str) -> list[str]:
        """The places named, or all of the kind that can be used."""
        if places != (EVERY_PLACE,):
            return list(places)
        return [each.name for each in self._around.places.values() if each.kind == kind]

    def _place(self, name: str, spot: Spot, kind: str, *, writes: bool) -> PlaceInfo | None:
        place = self._around.places.get(name.lower())
        if place is None:
            known = [each.name for each in self._around.places.values() if each.kind == kind]
            self._faults.add(spot, f'there is no place "{name}" in whenvoca.toml', nearest(name, known))
            return None
        if place.kind != kind:
            known = [each.name for each in self._around.places.values() if each.kind == kind]
            self._faults.add(
                spot, f"{place.name} is {with_article(place.kind)}, and here stands a {kind}", nearest(name, known)
            )
            return None
        if place.trouble:
            self._faults.add(spot, f"{place.name} cannot be read: {place.trouble}", place.trouble_fix, in_place=True)
        if writes and place.unwritable:
            self._refuse_unwritable(spot, place)
        if writes and place.readonly:
            self._faults.add(
                spot,
                f"{place.name} is read-only",
                "take readonly = true away from it in whenvoca.toml, or write elsewhere",
            )
        return place

    # --- statements

    def _block(self, block: tree.Block, names: Names) -> Names:
        """Checks statements in order; answers the names known after them."""
        ended: tree.Statement | None = None
        for statement in block.statements:
            if ended is not None:
                word = "stop" if isinstance(ended, tree.Stop) else "fail"
                self._faults.add(statement.spot, f"this can never run: {word} stands above it", "take one of them away")
                ended = None
            names = self._statement(statement, names)
            if isinstance(statement, tree.Stop | tree.Fail):
                ended = statement
        return names

    def _statement(self, statement: tree.Statement, names: Names) -> Names:
        match statement:
            case tree.Step():
                return self._step(statement, names)
            case tree.BrokenLine():
                return names.with_name(fold_name(statement.name), ANY)
            case tree.Let():
                kind = self._infer.type_of(statement.value, names)
                return names.with_name(fold_name(statement.name), kind)
            case tree.If():
                return self._if(statement, names)
            case tree.ForEach():
                source = self._infer.type_of(statement.source, names)
                if source.name not in ("list", "any", "empty"):
                    self._faults.add(
                        statement.source.spot,
                        f"for each goes through a list, and this is {with_article(str(source))}",
                        other_type(statement.source, source, list_of(ANY)),
                    )
                self._block(statement.body, names.with_name(fold_name(statement.name), source.item or ANY))
            case tree.Fail():
                self._infer.type_of(statement.message, names)
            case tree.Ask():
                return self._ask(statement, names)
        return names

    def _ask(self, statement: tree.Ask, names: Names) -> Names:
        kind = VALUE_KINDS[statement.kind]
        self._infer.type_of(statement.question, names)
        for node in (*statement.choices, *([statement.default] if statement.default is not None else [])):
            given = self._infer.type_of(node, names)
            item = kind.item if node in statement.choices and kind.item is not None else kind
            if not fits(given, item):
                said = with_article(str(item))
                self._faults.add(node.spot, f"{statement.name} is {said}, and this is {with_article(str(given))}")
        return names.with_name(fold_name(statement.name), kind)

    def _if(self, statement: tree.If, names: Names) -> Names:
        outcomes: list[Names] = []
        has_else = False
        for condition, block in statement.branches:
            if condition is None:
                has_else = True
            else:
                self._infer.condition(condition, names)
                if isinstance(condition, tree.Literal) and condition.value is False and block.statements:
                    self._faults.add(block.statements[0].spot, "this can never run: its condition is no")
            outcomes.append(self._block(block, names))
        if not has_else:
            outcomes.append(names)
        shared = {
            name: kind for name, kind in outcomes[0].given.items() if all(name in other.given for other in outcomes)
        }
        gone = {name for outcome in outcomes for name in outcome.given} - set(shared)
        lost = dict.fromkeys(gone, "only one branch of an if gives it")
        return replace(names, given=shared, lost={**names.lost, **lost})

    def _step(self, step: tree.Step, names: Names) -> Names:
        definition = step.definition
        place = self._step_place(step, names)
        thing = self._thing_type(step, place, names)
        self._look_up(step, place, thing, names)
        is_bound = step.name and definition.thing and not definition.is_making
        inside = names.with_name(fold_name(step.name), thing) if is_bound else names
        self._step_fields(step, place, self._step_value(step, place, inside))
        if (
            definition.is_mirror
            and definition.thing == "row"
            and place is not None
            and place.columns is not None
            and not place.has_key
        ):
            fix = f'name a column that never changes at the place: [places.{place.name}] key = "…"'
            self._faults.add(step.spot, f"{place.name} has no key, so a mirror could not tell its rows apart", fix)
        if definition.adds == "row" and place is not None and place.totals:
            fix = "take the totals line and the setting totals away, or add the rows to another sheet"
            self._faults.add(
                step.spot, f"below the rows of {place.name} stands a totals line, which a row would write over", fix
            )
        self._check_trigger_fits(step)
        if definition.is_making:
            self._check_identity(step)
        if step.on_failure is not None:
            lost = {fold_name(step.name): "the step that gives it has failed"} if step.name else {}
            self._block(step.on_failure, replace(names, lost={**names.lost, **lost}).with_words("reason"))
        if step.name:
            made = thing
            if definition.kinds_as_fields:
                made = read_type(step)
            elif definition.makes and (place is not None or EVERY_PLACE in step.places or not step.places):
                made = definition.makes(place or PlaceInfo(name="", kind="calendar"))
            return names.with_name(fold_name(step.name), made)
        return names

    def _step_value(self, step: tree.Step, place: PlaceInfo | None, names: Names) -> Names:
        """The value in the step's sentence; answers the names that its fields know."""
        node = step.slots.get("VALUE")
        if node is None:
            return names
        given = self._infer.type_of(node, names)
        wanted = step.definition.value_type
        item = given.item if given.name == "list" and given.item else given
        if wanted == "list":
            if given.name not in ("list", "any", "empty"):
                said = f"for each goes through a list, and this is {with_article(str(given))}"
                self._faults.add(node.spot, said, other_type(node, given, list_of(ANY)))
            each = step.slots["EACH"]
            return names.with_name(fold_name(each.word), given.item or ANY) if isinstance(each, tree.Name) else names
        if wanted in ("people", "addresses", "text") and not fits(item, TEXT):
            self._faults.add(node.spot, f"here stands a text, and this is {with_article(str(given))}")
        elif "ROOM" in step.definition.sentence.parts:
            room = tree.plain_text(node)
            if room is not None and place is not None and place.kind == "chat" and room not in place.rooms:
                self._faults.add(node.spot, f'{place.name} has no room "{room}"', nearest(room, place.rooms))
        elif wanted == "people":
            self._check_people(node)
        elif wanted == "addresses":
            self._check_addresses(node)
        return names

    def _step_place(self, step: tree.Step, names: Names) -> PlaceInfo | None:
        writes = not step.definition.reads_only
        for slot, node in step.slots.items():
            if kind := place_kind_of(slot):
                found = [self._place(name, node.spot, kind, writes=writes) for name in self._named(step.places, kind)]
                return None if any(each is None for each in found) else found[-1] if found else None
        if step.definition.thing == "row":
            return self._subject_sheet(step, names)
        return None

    def _subject_sheet(self, step: tree.Step, names: Names) -> PlaceInfo | None:
        """The sheet of the row that a step without a place acts on: a given name's, else the subject's."""
        place = names.place if names.subject_word == "row" else None
        if (node := step.slots.get("NAME")) is not None:
            kind = self._infer.type_of(node, names)
            place = self._around.places.get((kind.item or kind).place)
        elif self._workflow.trigger is tree.NO_TRIGGER:
            return None
        elif self._workflow.trigger.definition.subject != "row":
            self._faults.add(step.spot, "the workflow is not about a row", f"written: {step.definition.verb} in SHEET")
            return None
        if place is not None and place.readonly:
            fix = "take readonly = true away from it in whenvoca.toml"
            self._faults.add(step.spot, f"{place.name} is read-only", fix)
        elif place is not None and place.unwritable:
            self._refuse_unwritable(step.spot, place)
        return place

    def _refuse_unwritable(self, spot: Spot, place: PlaceInfo) -> None:
        self._faults.add(
            spot, f"{place.name} cannot be written: {place.unwritable}", "save it as .xlsx and name that file"
        )

    def _thing_type(self, step: tree.Step, place: PlaceInfo | None, names: Names) -> Type:
        """The type of what the step acts on; a fault where a given name or the subject is something else."""
        definition = step.definition
        if not definition.thing or definition.is_making:
            return ANY
        if definition.looks_up:
            return row_type(place) if definition.thing == "row" and place else self._event_type(definition, place)
        node = step.slots.get("NAME")
        if node is None:
            if self._workflow.trigger is tree.NO_TRIGGER:
                return ANY
            if definition.thing == "event" and names.subject_word != "event":
                fix = f"written: {definition.verb} NAME, or {definition.verb} in CALENDAR"
                self._faults.add(step.spot, "the workflow is not about an event", fix)
            elif definition.thing == "task" and names.subject_word != "task":
                fix = f"written: {definition.verb} NAME, or {definition.verb} in LIST"
                self._faults.add(step.spot, "the workflow is not about a task", fix)
            elif definition.thing in _HEARD and names.subject_word not in (definition.thing, ""):
                said = with_article(definition.thing)
                self._faults.add(
                    step.spot, f"the workflow is not about {said}", f"its trigger: {_HEARD[definition.thing]}"
                )
            return names.subject or ANY
        given = self._infer.type_of(node, names)
        inner = given.item or ANY if given.name == "list" else given
        if inner.name not in ("any", "empty") and inner.said.split(" ")[0] != definition.thing:
            said = with_article(str(given))
            self._faults.add(node.spot, f"{definition.verb} takes {with_article(definition.thing)}, and this is {said}")
        return inner

    def _event_type(self, definition: StepDefinition, place: PlaceInfo | None) -> Type:
        looked_up = self._around.task_type if definition.thing == "task" else self._around.event_type
        if definition.thing not in ("event", "task") and definition.makes is not None:
            looked_up = definition.makes
        made = looked_up(place or PlaceInfo(name="", kind="calendar"))
        return made.item or made

    def _look_up(self, step: tree.Step, place: PlaceInfo | None, thing: Type, names: Names) -> None:
        definition = step.definition
        if not definition.looks_up:
            return
        if not step.conditions and definition.field("missing") is not None:
            self._faults.add(step.spot, "where is missing: which one?", f"below it: where  {definition.thing} …")
        given = dict(names.given)
        if names.subject_word and names.subject is not None:
            given[names.subject_word] = names.subject
            given["old"] = names.subject
        inside = replace(
            names,
            subject_word="",
            subject=thing,
            place=place if definition.thing == "row" else None,
            given=given,
            is_look_up=True,
        )
        for condition in step.conditions:
            self._infer.condition(condition, inside)

    def _check_trigger_fits(self, step: tree.Step) -> None:
        trigger = self._workflow.trigger
        if trigger is tree.NO_TRIGGER:
            return
        if step.definition.is_mirror and set(trigger.happenings) != {"gained", "changed", "lost"}:
            subject = trigger.definition.subject
            self._faults.add(
                step.spot,
                "a mirror follows what comes, changes and goes, and this trigger does not tell of all three",
                f"written: when {trigger.places[0] if trigger.places else 'PLACE'} gains, changes or loses "
                f"{with_article(subject)}",
            )
        made = step.definition.adds
        is_created = made in ("event", "task") and not (step.definition.is_mirror or step.definition.is_plan)
        if is_created and {"gained", "changed"} <= set(trigger.happenings):
            fix = f"mirror {made} in {step.places[-1]} keeps one {made} for each {trigger.definition.subject}"
            self._faults.add(step.spot, f"each change would make one more {made}", fix)

    def _check_identity(self, step: tree.Step) -> None:
        if step.path in self._making:
            other = self._making[step.path]
            if step.name:
                self._faults.add(
                    step.spot,
                    f'"{step.name}" names two steps',
                    f"the other one is on line {other.line}; choose another name",
                )
            else:
                fix = (
                    f"give each a name of its own: {step.definition.verb} … as NAME (the other one is on line "
                    f"{other.line})"
                )
                self._faults.add(
                    step.spot, "two steps that make something are alike, so what they make could not be told apart", fix
                )
        self._making[step.path] = step.spot


def _words_of(trigger: tree.Trigger) -> frozenset[str]:
    """The words of the language that have a value below this trigger."""
    is_told = trigger.happenings and trigger.definition.follows_changes
    words = {"now", "today", "tomorrow", "happened"} if is_told else {"now", "today", "tomorrow"}
    tells_before = {"changed", "lost"} & set(trigger.happenings)
    return frozenset(words | ({"old", "changes"} if tells_before else set()))
