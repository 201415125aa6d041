"""What a shot's file may hold, and what is said of one that holds more."""

import json
import os
import time

import pytest
from pydantic import ValidationError

from zonal_mantle.shot import Lock, LockFrame, Shot, ShotError, Source, load, save
from zonal_mantle.shot.door import json_of, sentence_of, text_of
from zonal_mantle.shot.file import files_named, from_json, newer_autosave, to_json
from zonal_mantle.shot.limits import LONGEST_CHAIN, MOST_DEPTH, MOST_LOCKS, MOST_PARTS

UNIT = (1.0, 0.0, 0.0, 0.0, 1.0, 0.0, 0.0, 0.0, 1.0)


def plate(**changes):
    base = {"id": "plate", "name": "Plate", "path": "/p/a.%04d.exr", "kind": "sequence", "width": 64, "height": 36}
    return {**base, "first": 1, "last": 3, **changes}


@pytest.mark.parametrize(
    ("changes", "words"),
    [
        ({"width": 10**9}, "must be at most 65536, not 1000000000"),
        ({"width": 65_536, "height": 65_536}, "more than the 268 megapixels"),
        ({"height": 0}, "must be above 0, not 0"),
        ({"last": 10**9}, "must be at most 10000000"),
        ({"last": 300_000}, "300000 frames are more than the 200000"),
        ({"first": 9}, "its last frame, 3, comes before its first, 9"),
        ({"path": "/p/a.%s.exr"}, "needs its frame number as %04d"),
        ({"path": "/p/a.%999999d.exr"}, "needs its frame number as %04d"),
        ({"path": "x" * 5000 + ".%04d.exr"}, "path: is longer than 4096 characters"),
        ({"rate": [0, 1]}, "a rate of 0/1 frames a second is not possible"),
        ({"kind": "pipe"}, "must be 'still', 'sequence' or 'video', not pipe"),
    ],
)
def test_a_source_beyond_the_limits_is_refused_in_words(changes, words):
    data = json.loads(to_json(Shot())) | {"sources": [plate(**changes)], "plate": "plate"}
    with pytest.raises(ShotError, match=words) as problem:
        from_json(json.dumps(data), "a.shot.json")
    assert str(problem.value).startswith("a.shot.json cannot be used: sources › 1")
    assert "Input should" not in str(problem.value)


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("[" * 100_000, "nested more than"),
        ('{"a":' * (MOST_DEPTH + 5) + "1" + "}" * (MOST_DEPTH + 5), "nested more than"),
        ('{"a": 1' + "0" * 5000 + "}", "a number of 5001 digits"),
        ('{"a": NaN}', "NaN, which is no number"),
        ('{"a": 1e300}', r"1e\+300 lies beyond"),
        ('{"grow_px": 1e6}', "lies beyond ±100000"),
        ('{"zones": [' + "0," * MOST_PARTS + "0]}", f"{MOST_PARTS + 1} of them"),
        ('{"locks": [' + "0," * MOST_LOCKS + "0]}", f"at most {MOST_LOCKS}"),
        ('{"points": [' + "[0, 0]," * 5000 + "[0, 0]]}", "at most 5000"),
        ('{"name": "' + "x" * 30_000 + '"}', "a text of 30000 characters"),
        ("[" + "0," * 9_000_000 + "0]", "million values"),
        ("{", "not readable as JSON"),
    ],
)
def test_what_no_shot_holds_is_refused_before_anything_is_made_of_it(text, words):
    start = time.process_time()
    with pytest.raises(ShotError, match=words):
        json_of(text, "a.json")
    assert time.process_time() - start < 5


def test_only_regular_files_are_opened(tmp_path):
    os.mkfifo(tmp_path / "pipe")
    for path, words in ((tmp_path / "pipe", "is a pipe"), (tmp_path, "is a folder"), (tmp_path / "no", "is missing"),
                        ("/dev/zero", "is a device")):  # fmt: skip
        with pytest.raises(ShotError, match=words):
            text_of(type(tmp_path)(path))


def test_sentences_of_the_validator_are_ours():
    for make, words in (
        (
            lambda: Lock.model_validate({"id": "a", "name": "A", "reference_frame": "x"}),
            "reference frame: must be a whole",
        ),
        (lambda: Lock.model_validate({"name": "A", "reference_frame": 1}), "id: is missing"),
        (lambda: Lock(id="a", name="A", reference_frame=1, bend=3), "bend: is not known"),
        (lambda: Lock(id="a", name=3, reference_frame=1), "name: must be text, not 3"),
        (lambda: LockFrame(frame=3, homography=(0.0,) * 9), "the motion on frame 3 lays all of the picture"),
    ):
        with pytest.raises(ValidationError) as problem:
            make()
        assert words in sentence_of(problem.value)


def test_chains_of_locks_end():
    def locks(count, ring=False):
        first = Lock(id="l0", name="L0", kind="by hand", reference_frame=1, rides=f"l{count - 1}" if ring else None)
        rest = [
            Lock(id=f"l{k}", name=f"L{k}", kind="by hand", reference_frame=1, rides=f"l{k - 1}")
            for k in range(1, count)
        ]
        return (first, *rest)

    assert len(Shot(locks=locks(LONGEST_CHAIN)).locks) == LONGEST_CHAIN
    with pytest.raises(ValidationError, match=f"more than {LONGEST_CHAIN} locks"):
        Shot(locks=locks(LONGEST_CHAIN + 1))
    with pytest.raises(ValidationError, match="would ride on itself"):
        Shot(locks=locks(3, ring=True))


@pytest.mark.parametrize("version", [0, -1, 1.5, "10", None, True])
def test_an_odd_version_is_refused(version):
    data = json.loads(to_json(Shot())) | {"version": version}
    with pytest.raises(ShotError, match="does not say of which format"):
        from_json(json.dumps(data))


def test_an_old_version_with_parts_of_other_kinds_is_refused():
    data = json.loads(to_json(Shot())) | {"version": 1, "zones": [3, "x"], "mattes": 5}
    with pytest.raises(ShotError, match="not what a shot of format 1 holds"):
        from_json(json.dumps(data))


def test_files_that_a_shot_names_are_told_without_opening_them(tmp_path):
    os.mkfifo(tmp_path / "pipe.png")
    still = {"kind": "still", "first": 1, "last": 1}
    sources = (
        Source(**plate(path=str(tmp_path / "pipe.png"), **still)),
        Source(**plate(id="b", path="/etc/passwd", **still)),
    )
    path = tmp_path / "a.shot.json"
    save(Shot(sources=sources), path)
    assert files_named(load(path), path) == [(str(tmp_path / "pipe.png"), False), ("/etc/passwd", True)]


def test_a_damaged_autosave_is_not_offered(tmp_path):
    path = tmp_path / "a.shot.json"
    save(Shot(), path)
    autosave = path.with_name(path.name + ".autosave")
    autosave.write_text(to_json(Shot(name="Newer"))[:-40])
    os.utime(autosave, (time.time() + 60,) * 2)
    assert newer_autosave(path) is None
    save(Shot(name="Newer"), autosave)
    os.utime(autosave, (time.time() + 60,) * 2)
    assert newer_autosave(path) == autosave


def test_a_name_of_the_longest_that_a_file_system_takes_is_saved(tmp_path):
    path = tmp_path / ("x" * 240 + ".shot.json")
    save(Shot(name="Long"), path)
    assert load(path).name == "Long"
    with pytest.raises(ShotError, match="cannot be written"):
        save(Shot(), tmp_path / ("x" * 5000 + ".shot.json"))
    assert [entry.name for entry in tmp_path.iterdir()] == [path.name]
