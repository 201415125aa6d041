"""Shots that mean harm, or that a broken program made: each is opened and worked on, or refused in one sentence, within
seconds and 2 GiB, and nothing but regular files is opened."""

from __future__ import annotations

import copy
import json
import os
import random
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from .mutants import Reader, is_bad_sentence
from .report import Report

SECONDS = 5.0
ODD_NUMBERS = (0, -1, 1e9, -1e9, 1e300, 1e5, -1e5, 1e-300, 0.5, 2**63)
ODD_VALUES = (None, True, "x", [], {}, "nan")
HEAVY = ("900 zones",)  # within the limits, but more than is drawn in seconds: work that can be cancelled
Place = tuple[str | int, ...]


def leaves(value: Any, place: Place = ()) -> Iterator[tuple[Place, Any]]:
    """All plain values of a JSON value with their places, one of each kind of place: of a list's items the first of
    each kind."""
    if isinstance(value, dict):
        for key, each in value.items():
            yield from leaves(each, (*place, key))
    elif isinstance(value, list) and value and isinstance(value[0], dict | list):
        kinds = {
            str(each.get("kind")) if isinstance(each, dict) else "": k for k, each in reversed([*enumerate(value)])
        }
        for k in kinds.values():
            yield from leaves(value[k], (*place, k))
    else:
        yield place, value


def with_value(data: Any, place: Place, value: Any) -> Any:
    """A JSON value with another value at a place."""
    out = copy.deepcopy(data)
    at = out
    for step in place[:-1]:
        at = at[step]
    at[place[-1]] = value
    return out


def odd_values(data: Any, chance: random.Random, count: int) -> Iterator[tuple[str, str]]:
    """`count` shots with one odd value each, and what it is."""
    places = [place for place, value in leaves(data) if place]
    for _ in range(count):
        place, value = chance.choice(places), chance.choice((*ODD_NUMBERS, *ODD_NUMBERS, *ODD_VALUES))
        yield f"{'.'.join(map(str, place))} = {value!r}", json.dumps(with_value(data, place, value))


def monsters(data: dict[str, Any], folder: Path) -> Iterator[tuple[str, str]]:
    """Shots that are large, deep, cyclic, or name what is no file."""
    pipe = folder / "pipe.png"
    if not pipe.exists():
        os.mkfifo(pipe)
    (folder / "folder.png").mkdir(exist_ok=True)
    source, zone, lock = data["sources"][0], data["zones"][0], data["locks"][0]
    still = {**source, "kind": "still", "first": 1, "last": 1}
    for path in (str(pipe), "/dev/zero", "/dev/null", str(folder / "folder.png"), "a" * 100_000, "/" * 5000, "x\0y",
                 "\udce9.png", "../" * 300 + "etc/passwd", "%s%s%n.png", "http://x.org/a.png", "|ls"):  # fmt: skip
        yield (
            f"a source at {path[:40]!r}",
            json.dumps({**data, "sources": [{**still, "path": path}, *data["sources"][1:]]}),
        )
    for pattern in ("a.%s.exr", "a.%999999999d.exr", "a.%04d%04d.exr", "a.%x.exr", "a.%*d.exr", "%.exr"):
        yield (
            f"a sequence at {pattern}",
            json.dumps({**data, "sources": [{**source, "path": pattern}, *data["sources"][1:]]}),
        )
    for first, last in ((1, 10**9), (-(10**9), 10**9), (10, 1), (10**18, 10**18 + 1)):
        yield (
            f"frames {first} to {last}",
            json.dumps({**data, "sources": [{**source, "first": first, "last": last}, *data["sources"][1:]]}),
        )
    for width, height in ((10**9, 1), (65_536, 65_536), (1, 10**9)):
        sources = [{**source, "width": width, "height": height}, *data["sources"][1:]]
        yield f"a plate of {width} × {height}", json.dumps({**data, "sources": sources})
    one = json.dumps({**zone, "id": "@", "matte": {"on": False, "id": None}})
    for count, name in ((100_000, "100 000 zones"), (900, "900 zones")):
        many = ", ".join(one.replace('"@"', f'"z{k}"') for k in range(count))
        yield name, json.dumps({**data, "zones": ["@"]}).replace('"@"', many)
    chain = [
        {**lock, "id": f"l{k}", "field": [], "rides": f"l{k - 1}" if k else None, "solved": []} for k in range(3000)
    ]
    yield "3 000 chained locks", json.dumps({**data, "locks": [*data["locks"], *chain]})
    yield "200 chained locks", json.dumps({**data, "locks": [*data["locks"], *chain[:200]]})
    ring = [{**chain[0], "rides": "l1"}, {**chain[1], "rides": "l0"}]
    yield "two locks in a ring", json.dumps({**data, "locks": [*data["locks"], *ring]})
    circle = [[float(k % 997), float(k % 641)] for k in range(100_000)]
    shape = {"id": "s", "keys": [{"frame": 1, "points": circle}]}
    matte = {"id": "m", "shapes": [shape]}
    yield "100 000 points", json.dumps({**data, "mattes": [*data["mattes"], matte]})
    shapes = [{"id": f"s{k}", "keys": [{"frame": 1, "points": circle[:4000]}]} for k in range(400)]
    yield "400 shapes of 4 000 points", json.dumps({**data, "mattes": [*data["mattes"], {"id": "m", "shapes": shapes}]})
    yield "deep lists", json.dumps(data)[:-1] + ', "x": ' + "[" * 100_000 + "]" * 100_000 + "}"
    yield "deep objects", json.dumps(data)[:-1] + ', "x": ' + '{"a":' * 60 + "1" + "}" * 60 + "}"
    yield "a number of 5 000 digits", json.dumps(data).replace('"version": ', '"version": 1' + "0" * 5000, 1)
    for version in (0, -3, 1.5, "10", None, True, 10**15):
        yield f"version {version!r}", json.dumps({**data, "version": version})
    for version in range(1, data["version"]):
        yield f"a present shot that says version {version}", json.dumps({**data, "version": version})
    yield "an old shot with parts of other kinds", json.dumps({**data, "version": 1, "zones": [3, "x"], "mattes": 5})
    yield "twelve million values", '{"format": "zonal-mantle-shot", "version": 10, "x": [' + "0," * 12_000_000 + "0]}"
    yield "a name of a million characters", json.dumps({**data, "name": "x" * 1_000_000})
    yield "an empty file", ""
    yield "no text", "\udcff\udcfe" * 100


def drill(shot: Path, work: Path, count: int, seed: int, draw_all: bool = True) -> Report:
    """Opens all monsters and `count` shots with odd values; each is drawn on one frame where it opens, or those only
    that name odd files and half of the odd values."""
    report = Report("hostile", seed)
    data = json.loads(shot.read_text())
    folder = shot.resolve().parent
    for source in data["sources"]:
        source["path"] = os.path.normpath(folder / source["path"])
    chance = random.Random(seed)
    path = work / "hostile.shot.json"
    with Reader(("drawn", str(shot))) as reader:
        for what, text in (*monsters(data, work), *odd_values(data, chance, count)):
            path.write_bytes(text.encode("utf-8", "surrogateescape"))
            drawn = what not in HEAVY and (draw_all or what.startswith("a s") or chance.random() < 0.5)
            went, words = reader.read("drawn" if drawn else "shot", path)
            bad = went == "said" and is_bad_sentence(words, path, needs_name=False)
            report.count("dump" if bad else went)
            if bad or went not in ("read", "said"):
                report.fault(f"{what}: {went}: {words[:300]}")
    return report
