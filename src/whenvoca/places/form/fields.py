"""The fields of a form: what its settings say of them, and how what somebody typed is read."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date, datetime
from decimal import Decimal
from typing import Any
from zoneinfo import ZoneInfo

from msgspec import Struct

from whenvoca.engine.things.entry import OWN_WORDS
from whenvoca.engine.workspace.settings import Workspace
from whenvoca.errors import RowFault
from whenvoca.language.definitions import ColumnInfo, column_word
from whenvoca.language.names import fold_name
from whenvoca.places.field_kinds import FIELD_KINDS, read_as
from whenvoca.places.form.free import FreeTimes, read_free
from whenvoca.places.settings import PlaceSettings
from whenvoca.values.addresses import to_address
from whenvoca.values.columns import Unread
from whenvoca.values.kinds import Kind
from whenvoca.values.texts import show_value

_KINDS = {**FIELD_KINDS, "long text": Kind.TEXT, "choice": Kind.TEXT, "choices": Kind.TEXT}
_SETTINGS = ("name", "label", "kind", "required", "choices", "least", "most", "help", "from-link", "free")
_OF_MOMENTS = 'kind = "moment", free = { calendars = ["outreach"] }'
LONGEST = 2000  # signs of a text
LONGEST_LONG = 20_000
_SUCH_AS = {
    "number": "such as 12",
    "date": "such as 2027-04-02",
    "time": "such as 14:30",
    "moment": "such as 2027-04-02 14:30",
    "duration": "such as 1 hour 30 minutes",
    "address": "such as joana@example.org",
}


class FormField(Struct, frozen=True, kw_only=True):
    """One field. ``least`` and ``most`` bound its number, its day, the length of its text or how many are chosen."""

    name: str
    label: str
    kind: str = "text"
    required: bool = False
    choices: tuple[str, ...] = ()
    least: Any = None
    most: Any = None
    help: str = ""
    from_link: str = ""  # what in the page's address may fill it in
    free: FreeTimes | None = None  # which free times it offers to choose from

    @property
    def word(self) -> str:
        """What it is called on the page and in workflows."""
        return column_word(self.name)

    @property
    def column(self) -> ColumnInfo:
        """The field as the checker sees it."""
        return ColumnInfo(
            name=self.name, letter="", kind=_KINDS[self.kind], declared=True, several=self.kind == "choices"
        )


class FieldFault(Exception):
    """What is wrong with what somebody typed into a field, in words for them."""


def read_fields(settings: PlaceSettings, listed: Any, workspace: Workspace) -> tuple[FormField, ...]:
    """The fields of a form's settings. Raises SettingsFault."""
    if not isinstance(listed, list) or not listed:
        raise settings.refuse("fields", "the form has no fields", 'such as fields = [ { name = "Name" } ]')
    found: list[FormField] = []
    for number, table in enumerate(listed, 1):
        found.append(_read_field(settings, table, number, workspace))
    words = [fold_name(each.word) for each in found]
    for each, word in zip(found, words, strict=True):
        if words.count(word) > 1:
            raise settings.refuse("fields", f'two fields are called "{each.name}"')
        if word in OWN_WORDS:
            raise settings.refuse(
                "fields", f'"{each.name}" is a word that each entry has by itself', "call it otherwise"
            )
    return tuple(found)


def _read_field(settings: PlaceSettings, table: Any, number: int, workspace: Workspace) -> FormField:
    if not isinstance(table, dict) or not isinstance(table.get("name"), str) or not table["name"].strip():
        raise settings.refuse("fields", f"field {number} has no name", 'such as { name = "Name", kind = "text" }')
    name, kind = table["name"].strip(), str(table.get("kind", "text"))
    for key in table:
        if key not in _SETTINGS:
            said = f'field "{name}": there is no setting "{key}"'
            raise settings.refuse("fields", said, f"there are: {', '.join(_SETTINGS)}")
    if kind not in _KINDS:
        raise settings.refuse("fields", f'field "{name}": there is no kind "{kind}"', f"one of: {', '.join(_KINDS)}")
    choices = tuple(str(each) for each in table.get("choices", ()))
    if (kind in ("choice", "choices")) != bool(choices):
        said = "has no choices" if not choices else f'has choices, and is of the kind "{kind}"'
        raise settings.refuse("fields", f'field "{name}" {said}', 'kind = "choice", choices = ["one", "two"]')
    free = read_free(settings, name, table["free"], workspace) if "free" in table else None
    if free is not None and kind != "moment":
        raise settings.refuse("fields", f'field "{name}" offers free times, and is of the kind "{kind}"', _OF_MOMENTS)
    if free is not None and ("least" in table or "most" in table):
        raise settings.refuse("fields", f'field "{name}": free and least or most do not go together', "use ahead")
    return FormField(
        name=name,
        label=str(table.get("label", name)),
        kind=kind,
        required=bool(table.get("required", False)),
        choices=choices,
        least=table.get("least"),
        most=table.get("most"),
        help=str(table.get("help", "")),
        from_link=str(table.get("from-link", "")),
        free=free,
    )


def read_posted(field: FormField, texts: Sequence[str], zone: ZoneInfo, order: str = "") -> Any:
    """The value of what somebody typed or chose; None where they left it empty. Raises FieldFault."""
    given = [text.replace("\r\n", "\n").strip() for text in texts]
    given = [text for text in given if text]
    if field.kind == "yes/no":
        return _read_yes_no(field, given)
    if not given:
        if field.required:
            raise FieldFault("Please choose one." if field.choices or field.free else "Please fill this in.")
        return None
    if field.choices:
        return _read_choices(field, given)
    if field.free is not None:
        return _read_free_time(given[0], zone)
    value = _read_one(field, given[0], zone, order)
    _check_bounds(field, value)
    return value


def _read_yes_no(field: FormField, given: Sequence[str]) -> bool:
    is_ticked = bool(given) and given[0].lower() not in ("no", "false", "0", "off")
    if field.required and not is_ticked:
        raise FieldFault("Please tick this.")
    return is_ticked


def _read_choices(field: FormField, given: Sequence[str]) -> Any:
    for each in given:
        if each not in field.choices:
            raise FieldFault(f'"{each[:60]}" is not among the choices.')
    if field.kind == "choice":
        return given[0]
    if field.least is not None and len(given) < field.least:
        raise FieldFault(f"Please choose at least {field.least}.")
    if field.most is not None and len(given) > field.most:
        raise FieldFault(f"Please choose {field.most} at most.")
    return list(dict.fromkeys(given))


def _read_free_time(text: str, zone: ZoneInfo) -> datetime:
    try:
        moment = datetime.fromisoformat(text)
        if moment.tzinfo is not None:
            return moment.astimezone(zone)
    except (ValueError, OverflowError):
        pass
    raise FieldFault("Please choose one of the times.")


def _read_one(field: FormField, text: str, zone: ZoneInfo, order: str) -> Any:
    if field.kind in ("text", "long text"):
        longest = LONGEST_LONG if field.kind == "long text" else LONGEST
        if len(text) > longest:
            raise FieldFault(f"This is too long: {longest} signs at most.")
        return text if field.kind == "long text" else " ".join(text.split())
    if field.kind == "address":
        if not (address := to_address(text)):
            raise FieldFault(f'"{text[:60]}" is not an email address: {_SUCH_AS["address"]}.')
        return address
    text = text.replace("T", " ", 1) if field.kind == "moment" else text
    try:
        value = read_as(_KINDS[field.kind], field.name, text, zone, order)
    except RowFault as fault:
        raise FieldFault(f"{fault.message[:1].upper()}{fault.message[1:]}.") from fault
    if isinstance(value, Unread):
        if value.waits:
            raise FieldFault(f'"{text[:60]}" can be read in two ways. Please write it as {_SUCH_AS[field.kind][8:]}.')
        noun = "an" if field.kind[0] in "aeiou" else "a"
        raise FieldFault(f'"{text[:60]}" is not {noun} {field.kind}: {_SUCH_AS[field.kind]}.')
    return value


def _check_bounds(field: FormField, value: Any) -> None:
    """Raises FieldFault for a number, a day or a text's length that is out of its bounds."""
    is_text = isinstance(value, str)
    measured = len(value) if is_text else value.date() if isinstance(value, datetime) else value
    if not isinstance(measured, int | Decimal | date):
        return
    for bound, word in ((field.least, "least"), (field.most, "most")):
        if bound is None or isinstance(bound, date) != isinstance(measured, date):
            continue
        limit: Any = bound.date() if isinstance(bound, datetime) else bound
        if measured < limit if word == "least" else measured > limit:
            raise FieldFault(_said_of_bound(limit, word, is_text=is_text))


def _said_of_bound(limit: Any, word: str, *, is_text: bool) -> str:
    if isinstance(limit, date):
        return f"Please choose a day {'from' if word == 'least' else 'up to'} {show_value(limit)}."
    if is_text:
        return f"Please write at {word} {limit} signs."
    return f"This can be at {word} {limit}." if word == "most" else f"This must be at least {limit}."


def shown_texts(field: FormField, value: Any, zone: ZoneInfo) -> list[str]:
    """The value as the page's input holds it."""
    match value:
        case None:
            return []
        case list() | tuple():
            return [str(each) for each in value]
        case bool():
            return ["yes"] if value else []
        case datetime() if field.free is not None:
            return [text_of_free_time(value, zone)]
        case datetime():
            return [f"{value.astimezone(zone):%Y-%m-%dT%H:%M}"]
        case date():
            return [value.isoformat()]
    return [f"{value:%H:%M}" if field.kind == "time" else show_value(value)]


def text_of_free_time(moment: datetime, zone: ZoneInfo) -> str:
    """A free time as the page sends it: with its offset, so that it is one moment even in the hour that comes twice."""
    return moment.astimezone(zone).isoformat(timespec="minutes")
