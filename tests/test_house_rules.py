"""Rules of the house that a linter does not hold."""

from __future__ import annotations

import re
from pathlib import Path

import pytest

SOURCES = sorted(Path("src/whenvoca").rglob("*.py"))


@pytest.mark.parametrize("path", [path for path in SOURCES if path.name not in ("clock.py", "progress.py")], ids=str)
def test_time_and_chance_come_from_the_engine_only(path: Path) -> None:
    text = path.read_text(encoding="utf-8")
    assert not re.search(r"datetime\.(now|utcnow|today)\(|date\.today\(|time\.time\(\)|\brandom\.", text)
    if path.name != "identity.py":
        assert "uuid4" not in text


def test_every_public_thing_has_a_docstring() -> None:
    import ast

    bare = []
    for path in SOURCES:
        tree = ast.parse(path.read_text(encoding="utf-8"))
        nodes = [tree, *(node for node in ast.walk(tree) if isinstance(node, ast.ClassDef | ast.FunctionDef))]
        inner = {
            child
            for node in nodes
            if isinstance(node, ast.FunctionDef)
            for child in ast.walk(node)
            if child is not node
        }
        for node in nodes:
            name = getattr(node, "name", "module")
            hidden = node in inner or any(part.startswith("_") for part in [name])
            owner_hidden = any(
                isinstance(o, ast.ClassDef) and o.name.startswith("_") and node in ast.walk(o) for o in nodes
            )
            if not hidden and not owner_hidden and not ast.get_docstring(node):  # type: ignore[arg-type]
                bare.append(f"{path}:{name}")
    assert bare == []


def test_a_step_is_one_file_and_its_line_in_the_list() -> None:
    names = [path.stem for path in Path("src/whenvoca/steps").glob("*.py")]
    assert "add_row" in names
    users = [
        path
        for path in SOURCES
        if "AddedRow" in path.read_text(encoding="utf-8") or "ADD_ROW" in path.read_text(encoding="utf-8")
    ]
    assert [path.name for path in users] == ["__init__.py", "add_row.py"]
