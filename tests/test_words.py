"""What the program says: every phrase can be translated, and is whole."""

import ast
import string
import sys
from pathlib import Path

import pytest

ROOT = Path(__file__).resolve().parents[1]
SOURCE = ROOT / "src" / "zonal_mantle"
sys.path.insert(0, str(ROOT / "tools"))
import phrases  # noqa: E402


def calls(path: Path) -> list[tuple[ast.Call, bool]]:
    """The calls of `say` in a file, and whether each is within a function."""
    found = []

    def walk(node: ast.AST, inside: bool) -> None:
        for field, value in ast.iter_fields(node):
            for child in value if isinstance(value, list) else [value]:
                if isinstance(child, ast.AST):
                    in_body = isinstance(node, ast.FunctionDef | ast.Lambda) and field == "body"
                    if isinstance(child, ast.Call) and isinstance(child.func, ast.Name) and child.func.id == "say":
                        found.append((child, inside or in_body))
                    walk(child, inside or in_body)

    walk(ast.parse(path.read_text(encoding="utf-8")), False)
    return found


FILES = sorted(SOURCE.rglob("*.py"))


@pytest.fixture(scope="module")
def all_calls():
    return [(path.relative_to(SOURCE).as_posix(), *call) for path in FILES for call in calls(path)]


def test_nothing_is_said_while_modules_are_loaded(all_calls):
    # the language is not known then
    assert len(all_calls) > 1000
    assert [(path, call.lineno) for path, call, inside in all_calls if not inside] == []


def test_a_phrase_names_the_values_that_it_is_given_and_no_other(all_calls):
    wrong = []
    for path, call, _ in all_calls:
        first = call.args[0]
        if isinstance(first, ast.Constant) and call.keywords:
            named = {name for _, name, _, _ in string.Formatter().parse(first.value) if name is not None}
            if named != {keyword.arg for keyword in call.keywords}:
                wrong.append((path, call.lineno, first.value))
    assert wrong == []


def test_what_is_put_together_from_values_is_a_phrase_with_names(all_calls):
    # an f-string would be another phrase for every value
    glued = [(path, call.lineno) for path, call, _ in all_calls if isinstance(call.args[0], ast.JoinedStr | ast.BinOp)]
    assert glued == []


def test_the_list_for_translators_keeps_what_was_translated(tmp_path, monkeypatch):
    found = phrases.phrases()
    assert {"Scale to cover", "{name} is off by {worst_px:.2f} px at its worst.", "corner pin"} <= set(found)
    assert not {"trash-2", "setProperty", "utf-8"} & set(found)
    out = tmp_path / "de.ts"
    out.write_bytes(phrases.written(found, "de", {"Scale to cover": "Deckend skalieren"}))
    monkeypatch.setattr(sys, "argv", ["phrases.py", str(out), "de"])
    phrases.main()
    assert phrases.kept(out) == {"Scale to cover": "Deckend skalieren"}


@pytest.mark.parametrize(
    "path", [path for path in FILES if "ui" not in path.parts and path.stem != "kernels"], ids=lambda path: path.stem
)
def test_errors_of_the_core_are_said(path):
    """A sentence that is raised goes through `say`; what only a programmer sees may not."""
    bare = []
    for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
        if isinstance(node, ast.Raise) and isinstance(node.exc, ast.Call) and node.exc.args:
            kind, first = ast.unparse(node.exc.func), node.exc.args[0]
            text = "".join(
                each.value for each in ast.walk(first) if isinstance(each, ast.Constant) and isinstance(each.value, str)
            )
            said = any(isinstance(each, ast.Name) and each.id == "say" for each in ast.walk(first))
            if (
                kind.endswith("Error")
                and kind not in ("TypeError", "AttributeError")
                and text.count(" ") > 1
                and not said
            ):
                bare.append((node.lineno, text))
    assert bare == []
