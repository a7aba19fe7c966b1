"""Whom a step is about: the people that its sentence or a field names."""

from __future__ import annotations

from collections.abc import Iterator

from whenvoca.engine.acting.step_call import StepCall
from whenvoca.engine.people import Person
from whenvoca.errors import RowFault
from whenvoca.values.addresses import split_addresses, to_address
from whenvoca.values.kinds import is_empty
from whenvoca.values.texts import show_value


def persons_of(call: StepCall, *, strangers: list[str] | None = None) -> list[Person]:
    """The people of [people] that the sentence names, each once. An address of nobody there raises RowFault, or goes
    into ``strangers``; a name of nobody always raises it."""
    value = call.sentence_value
    found: dict[str, Person] = {}
    for item in value if isinstance(value, list | tuple) else [value]:
        for piece in () if is_empty(item) else split_addresses(show_value(item)):
            person = call.people.find(piece)
            if person is not None:
                found[person.name.lower()] = person
            elif strangers is not None and (address := to_address(piece)):
                strangers.append(address)
            else:
                raise RowFault(
                    f'there is nobody "{piece}" in [people]', fix="add them to whenvoca.toml, or correct the name"
                )
    return list(found.values())


def addresses_of(call: StepCall, word: str) -> list[str]:
    """The addresses of the people in a field. Raises RowFault for what is neither an address nor somebody's name."""
    value = call.value(word)
    return list(_addresses(call, value if isinstance(value, list | tuple) else [value]))


def _addresses(call: StepCall, given: list[object] | tuple[object, ...]) -> Iterator[str]:
    for each in given:
        if is_empty(each):
            continue
        address = to_address(call.people.to_address(show_value(each).strip()))
        if not address:
            raise RowFault(f'"{show_value(each)}" is neither an email address nor a name from [people] with one')
        yield address
