"""Gathers all that the program says into a file for translators (Qt's .ts, which Linguist opens).

Use: python tools/phrases.py OUT.ts LANGUAGE, and from an edited file a language with pyside6-lrelease: see the manual.

What counts: the first argument of `say` and `mark` anywhere; the words that the choices of a shot are known by
(`Literal` types); and in the interface all words that reach its controls.
"""

from __future__ import annotations

import ast
import re
import sys
import xml.etree.ElementTree as ET
from collections.abc import Iterator
from functools import cache
from pathlib import Path

SOURCE = Path(__file__).resolve().parent.parent / "src" / "zonal_mantle"
SAID = {"say", "mark", "marks"}
# What is no word that is seen: keys, names of Qt's and of icons, style sheets, patterns of files and of times.
UNSEEN = {
    "setProperty", "setStyleSheet", "icon", "getattr", "setattr", "hasattr", "compile", "sub", "search", "match",
    "strftime", "encode", "decode", "startswith", "endswith", "split", "removesuffix", "removeprefix", "join",
    "getLogger", "info", "warning", "exception", "debug", "QKeySequence", "setObjectName", "fromBase64", "later",
    "submit", "Signal", "Slot", "open", "read_text", "write_text",
}  # fmt: skip
NO_WORDS = (ast.Expr, ast.JoinedStr, ast.FormattedValue, ast.Compare, ast.Subscript, ast.Import)
WORDS = re.compile(r"[^\W\d_]{2,}")
LABEL = re.compile(r"[^\W_][^_#{}<>;/]*[^\W_…]…?")
QT = re.compile(r"Q[A-Z]")
KEYS = re.compile(r"(Ctrl|Shift|Alt)\+")


@cache
def phrases() -> dict[str, list[str]]:
    """Every phrase, with the files that say it."""
    found: dict[str, list[str]] = {}
    for path in sorted(SOURCE.rglob("*.py")):
        where = path.relative_to(SOURCE).as_posix()
        tree = ast.parse(path.read_text(encoding="utf-8"))
        for text in set(_seen(tree, where.startswith("ui/"))):
            found.setdefault(text, []).append(where)
    return dict(sorted(found.items()))


def _seen(tree: ast.Module, of_interface: bool) -> Iterator[str]:
    """What a file says: in `say` and `mark`, as words of `Literal` types, and, of the interface, in its lists of
    choices (constants in capitals) and wherever words reach a control."""
    for node in ast.walk(tree):
        if isinstance(node, ast.Call) and _name(node.func) in SAID:
            yield from (text for text in map(_text, node.args) if text)
        elif isinstance(node, ast.Subscript) and isinstance(node.value, ast.Name) and node.value.id == "Literal":
            yield from (text for text in map(_text, ast.walk(node.slice)) if WORDS.search(text))
        if (
            of_interface
            and not isinstance(node, NO_WORDS)
            and not (isinstance(node, ast.Call) and _name(node.func) in UNSEEN)
        ):
            yield from (text for text in map(_text, ast.iter_child_nodes(node)) if _is_shown(text))
    for node in tree.body if of_interface else ():
        if isinstance(node, ast.Assign) and isinstance(node.targets[0], ast.Name) and node.targets[0].id.isupper():
            yield from (text for text in map(_text, ast.walk(node.value)) if LABEL.fullmatch(text))


def _text(node: ast.AST) -> str:
    return node.value if isinstance(node, ast.Constant) and isinstance(node.value, str) else ""


def _is_shown(text: str) -> bool:
    """Whether a text is words rather than a key, a colour, a file or a name of Qt's."""
    if not WORDS.search(text) or KEYS.match(text) or text.startswith(("#", "/", ".")) or QT.match(text):
        return False
    if " " in text:
        return True
    return (
        "_" not in text and "." not in text and not text.isupper() and (text[0].isupper() or text.endswith(("…", ":")))
    )


def _name(function: ast.expr) -> str:
    return function.attr if isinstance(function, ast.Attribute) else getattr(function, "id", "")


def written(found: dict[str, list[str]], language: str, translate: dict[str, str] | None = None) -> bytes:
    """The .ts file; with `translate` the phrases that it holds are put in, else all are left open."""
    root = ET.Element("TS", version="2.1", language=language, sourcelanguage="en")
    context = ET.SubElement(root, "context")
    ET.SubElement(context, "name").text = "Zonal Mantle"
    for text, files in found.items():
        message = ET.SubElement(context, "message")
        for file in files:
            ET.SubElement(message, "location", filename=f"src/zonal_mantle/{file}")
        ET.SubElement(message, "source").text = text
        known = (translate or {}).get(text)
        entry = ET.SubElement(message, "translation")
        if known is None:
            entry.set("type", "unfinished")
        else:
            entry.text = known
    ET.indent(root)
    return b'<?xml version="1.0" encoding="utf-8"?>\n<!DOCTYPE TS>\n' + ET.tostring(root, encoding="utf-8") + b"\n"


def kept(path: Path) -> dict[str, str]:
    """What a .ts file translates already."""
    if not path.exists():
        return {}
    messages = ET.parse(path).getroot().iter("message")
    pairs = ((message.findtext("source") or "", message.findtext("translation") or "") for message in messages)
    return {source: translation for source, translation in pairs if translation}


def main() -> None:
    if len(sys.argv) != 3:
        raise SystemExit(__doc__)
    out, found = Path(sys.argv[1]), phrases()
    known = kept(out)
    out.write_bytes(written(found, sys.argv[2], known))
    print(f"{out}: {len(found)} phrases, {sum(text in known for text in found)} translated")


if __name__ == "__main__":
    main()
