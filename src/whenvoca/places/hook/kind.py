"""The kind of place "hook": what its settings say."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from whenvoca.engine.seeing.entry_source import EntrySource
from whenvoca.engine.things.entry import OWN_WORDS
from whenvoca.language.definitions import column_word
from whenvoca.language.evaluation import Compiler, Scope
from whenvoca.language.expressions import read_condition
from whenvoca.language.faults import FaultList
from whenvoca.language.names import fold_name
from whenvoca.language.tokens import Piece
from whenvoca.places.field_kinds import FIELD_KINDS
from whenvoca.places.hook.place import Hook
from whenvoca.places.hook.reading import HookReading
from whenvoca.places.hook.signature import Signature
from whenvoca.places.place_kind import Access, PlaceContext, PlaceKind
from whenvoca.places.secrets import Secret
from whenvoca.places.settings import PlaceSettings
from whenvoca.values.dates import parse_order


def _open(settings: PlaceSettings, context: PlaceContext) -> Hook:
    fields = {str(name): path for name, path in settings.table("fields").items()}
    if not fields:
        raise settings.refuse("fields", "the hook has no fields", 'such as fields = { Name = "person.name" }')
    for name, path in fields.items():
        if not isinstance(path, str) or not path.strip():
            raise settings.refuse("fields", f'the path of "{name}" is not a text', f'such as {name} = "person.name"')
        if fold_name(column_word(name)) in OWN_WORDS:
            raise settings.refuse("fields", f'"{name}" is a word that each call has by itself', "call it otherwise")
    kinds = {str(name): str(kind) for name, kind in settings.table("kinds").items()}
    for name, kind in kinds.items():
        if name not in fields:
            raise settings.refuse("kinds", f'there is no field "{name}"')
        if kind not in FIELD_KINDS:
            raise settings.refuse("kinds", f'"{name}": there is no kind "{kind}"', f"one of: {', '.join(FIELD_KINDS)}")
    for key in ("gone", "newer"):
        if settings.has(key) and not settings.has("about"):
            raise settings.refuse(key, f"{key} is given without about", 'about = "number": which thing a call is about')
    order = settings.text("dates", "year first")
    if parse_order(order) is None:
        raise settings.refuse("dates", f'dates = "{order}" is not an order', 'such as dates = "day first"')
    reading = HookReading(
        fields=fields,
        kinds={name: FIELD_KINDS[kind] for name, kind in kinds.items()},
        addresses=frozenset(name for name, kind in kinds.items() if kind == "address"),
        dates=parse_order(order) or "year first",
        once=settings.text("once"),
        about=settings.text("about"),
        newer=settings.text("newer"),
        each=settings.text("each"),
        gone=_condition(settings) if settings.has("gone") else None,
    )
    return Hook(settings.name, context.zone_of(settings), reading, _signature(settings))


def _signature(settings: PlaceSettings) -> Signature | None:
    if not settings.has("signature"):
        return None
    table = dict(settings.table("signature"))
    header, form = str(table.pop("header", "")), str(table.pop("form", "hex"))
    if form not in ("hex", "base64"):
        raise settings.refuse("signature", f'form is never "{form}"', 'it is "hex" or "base64"')
    of_secret = PlaceSettings(settings.name, {"kind": "hook", "signature": table}, "")
    try:
        return Signature(Secret(of_secret, "signature", settings.name), header, form)
    except Exception as error:
        said = 'such as signature = { env = "LARKMOOR_HOOK", header = "X-Signature" }'
        raise settings.refuse("signature", "the signature is not understood", said) from error


class _AnyName(frozenset[str]):
    """Every name is a field: which there are is only known when a call comes."""

    def __contains__(self, word: object) -> bool:
        return True


def _condition(settings: PlaceSettings) -> Callable[[Scope], bool]:
    text = settings.text("gone")
    faults = FaultList("gone", text)
    node: Any = read_condition([Piece(text, 1, 1)], faults)
    if faults or node is None:
        said = faults.sorted()[0].message if faults else "it is not a condition"
        raise settings.refuse("gone", f"gone: {said}", "such as gone = 'status is \"cancelled\"'")
    return Compiler(_AnyName()).condition(node)


HOOK = PlaceKind(
    name="hook",
    settings="kinds dates signature once about gone newer each",
    accesses=(Access(key="fields", open=_open),),
    missing="a hook has fields",
    example='such as fields = { Name = "person.name" }',
    source=EntrySource,
    stays_open=True,
)
