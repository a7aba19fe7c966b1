"""Rules of the house that a linter does not hold."""

from __future__ import annotations

import inspect
import re
from importlib import import_module
from pathlib import Path

import pytest

from whenvoca.open_workspace import EFFECT_KINDS

SOURCES = sorted(Path("src/whenvoca").rglob("*.py"))


@pytest.mark.parametrize("path", [path for path in SOURCES if path.name not in ("clock.py", "progress.py")], ids=str)
def test_time_and_chance_come_from_the_engine_only(path: Path) -> None:
    text = path.read_text(encoding="utf-8")
    assert not re.search(r"datetime\.(now|utcnow|today)\(|date\.today\(|time\.time\(\)|\brandom\.", text)
    if path.name != "lineage.py":
        assert "uuid4" not in text


def test_every_public_thing_has_a_docstring() -> None:
    """Of its own, or that of the face which it backs."""
    bare = []
    for path in SOURCES:
        if path.name == "__main__.py":
            continue
        module = import_module(".".join(path.relative_to("src").with_suffix("").parts).removesuffix(".__init__"))
        own = {name: each for name, each in vars(module).items() if getattr(each, "__module__", "") == module.__name__}
        for name, each in [("module", module), *own.items()]:
            if name.startswith("_") or not (
                inspect.ismodule(each) or inspect.isclass(each) or inspect.isfunction(each)
            ):
                continue
            members = vars(each).items() if inspect.isclass(each) else ()
            methods = [
                (key, value) for key, value in members if inspect.isfunction(value) or isinstance(value, property)
            ]
            for inner, value in [("", each), *methods]:
                if not inner.startswith("_") and not inspect.getdoc(getattr(each, inner) if inner else value):
                    bare.append(f"{path}:{name}.{inner}")
    assert bare == []


def test_every_effect_of_a_step_can_be_undone_or_is_told_to_others() -> None:
    for kind in EFFECT_KINDS.values():
        is_followed = kind.verb == "send invitation"  # what undoes its event takes it back
        assert is_followed or (kind.invert is None) == (kind.told_as is not None), kind.verb
        assert set(kind.counts_as) <= {"deletion", "change", "email", "message", "call"}, kind.verb


def test_the_ledger_speaks_sql_that_other_databases_know() -> None:
    own = re.compile(
        r"INSERT OR|UPDATE OR|lastrowid|ON CONFLICT DO|\bmax\([^()]*,|WITHOUT ROWID|PRAGMA|COLLATE|IS NOT \?|\?\d", re.I
    )
    for path in Path("src/whenvoca/engine/ledger").glob("*.py"):
        if path.name not in ("connection.py", "schema.py"):
            assert not own.findall(path.read_text(encoding="utf-8")), path


def test_no_two_classes_share_a_name() -> None:
    names = [
        name
        for path in SOURCES
        if "speech" not in path.parts
        for name in re.findall(r"^class (\w+)", path.read_text(encoding="utf-8"), re.M)
    ]
    assert sorted(names) == sorted(set(names))
