"""Fields that are replaced by name: no type check looks at these names, so a renamed field would only be noticed when it is used."""

import ast
from pathlib import Path

import kestrav

SOURCES = sorted(Path(kestrav.__file__).parent.rglob("*.py"))
TREES = {file: ast.parse(file.read_text(encoding="utf-8")) for file in SOURCES}


def declared():
    """The names of all fields that any class declares."""
    classes = (node for tree in TREES.values() for node in ast.walk(tree) if isinstance(node, ast.ClassDef))
    return {
        item.target.id
        for each in classes
        for item in each.body
        if isinstance(item, ast.AnnAssign) and isinstance(item.target, ast.Name)
    }


def test_what_is_replaced_by_name_is_a_field_of_something():
    known, looked = declared(), 0
    for file, tree in TREES.items():
        for call in (node for node in ast.walk(tree) if isinstance(node, ast.Call)):
            if ast.unparse(call.func) != "msgspec.structs.replace":
                continue
            for keyword in call.keywords:
                looked += 1
                assert keyword.arg is None or keyword.arg in known, f"{file.name}:{call.lineno}: {keyword.arg}"
    assert looked > 100, "the way in which fields are replaced has changed, and this looks at nothing"
