"""The last states of a shot by time, and the mark that tells others that it is open."""

import json
import os
import subprocess
import sys
import time
from datetime import datetime, timedelta

import pytest

from zonal_mantle.shot import Shot, ShotError, State, save
from zonal_mantle.shot.opened import STALE_SECONDS, mark_opened, mark_path, opened_by_others, unmark_opened
from zonal_mantle.shot.past import EVERY_SECONDS, MOST, forget_past, keep_past, past_folder, past_of, shot_of_past

NOON = datetime(2026, 11, 26, 12, 0, 0)


@pytest.fixture
def path(tmp_path):
    save(Shot(name="A"), tmp_path / "a.shot.json")
    return tmp_path / "a.shot.json"


def test_versions_are_kept_by_time_and_taken_back(path):
    assert keep_past(Shot(name="1"), path, NOON)
    assert not keep_past(Shot(name="2"), path, NOON + timedelta(seconds=EVERY_SECONDS / 2))
    assert keep_past(Shot(name="3"), path, NOON + timedelta(seconds=EVERY_SECONDS))
    assert not keep_past(Shot(name="3"), path, NOON + timedelta(hours=1))  # nothing changed
    assert [shot_of_past(past, path).name for past in past_of(path)] == ["3", "1"]
    assert past_of(path)[1].when == NOON


def test_no_more_than_twenty_are_kept_and_they_are_small(path):
    for k in range(MOST + 7):
        keep_past(Shot(name=f"V{k}"), path, NOON + timedelta(minutes=5 * k))
    names = [shot_of_past(past, path).name for past in past_of(path)]
    assert names == [f"V{k}" for k in range(MOST + 6, 6, -1)]
    assert sum(file.stat().st_size for file in past_folder(path).iterdir()) < 60_000
    forget_past(path)
    assert past_of(path) == []


def test_a_clock_that_is_set_back_holds_nothing_up(path):
    keep_past(Shot(name="1"), path, NOON)
    assert keep_past(Shot(name="2"), path, NOON - timedelta(days=1))


def test_a_damaged_version_is_said_and_the_others_stand(path):
    keep_past(Shot(name="1"), path, NOON)
    keep_past(Shot(name="2"), path, NOON + timedelta(hours=1))
    newest, older = past_of(path)
    newest.file.write_bytes(newest.file.read_bytes()[:20])
    with pytest.raises(ShotError, match="damaged or gone"):
        shot_of_past(newest, path)
    assert shot_of_past(older, path).name == "1"
    (past_folder(path) / "notes.txt").write_text("not ours")
    assert len(past_of(path)) == 2


def test_named_states_are_not_kept_twice(path):
    state = State(id="s", word="first", saved="2026-11-26T10:00:00", shot="x" * 10_000)
    keep_past(Shot(name="1", states=(state,)), path, NOON)
    back = shot_of_past(past_of(path)[0], path, Shot(states=(state,)))
    assert back == Shot(name="1", states=(state,))
    assert past_of(path)[0].file.stat().st_size < 5000


HOLD = "import sys, time; from pathlib import Path; from zonal_mantle.shot.opened import mark_opened; " \
       "mark_opened(Path(sys.argv[1])); print('open', flush=True); time.sleep(60)"  # fmt: skip


def test_a_shot_that_another_program_has_open_is_told_until_it_ends(path):
    assert opened_by_others(path) is None
    other = subprocess.Popen([sys.executable, "-c", HOLD, str(path)], stdout=subprocess.PIPE)
    try:
        other.stdout.readline()
        found = opened_by_others(path)
        assert found.process == other.pid
        assert found.user in str(found)
        mark_opened(path)  # it stays the other's
        unmark_opened(path)
        assert opened_by_others(path) == found
    finally:
        other.kill()
        other.communicate()
    assert opened_by_others(path) is None
    mark_opened(path)
    assert json.loads(mark_path(path).read_text())["process"] == os.getpid()
    assert opened_by_others(path) is None  # one's own
    unmark_opened(path)
    assert not mark_path(path).exists()


RACE = """
import sys, time
from pathlib import Path
from zonal_mantle.shot.opened import mark_opened, opened_by_others
print("ready", flush=True)
sys.stdin.readline()
mark_opened(Path(sys.argv[1]))
print(opened_by_others(Path(sys.argv[1])) is None, flush=True)
sys.stdin.readline()
"""


def test_of_programs_that_open_a_shot_at_the_same_moment_one_is_first(path):
    mark_path(path).write_text(json.dumps({"user": "a", "machine": "b", "process": 1, "started": 1, "since": 0.0}))
    os.utime(mark_path(path), (0, 0))  # a stale one
    command = [sys.executable, "-c", RACE, str(path)]
    programs = [subprocess.Popen(command, stdin=-1, stdout=-1, text=True, bufsize=1) for _ in range(4)]
    for program in programs:
        program.stdout.readline()
    for program in programs:
        program.stdin.write("go\n")
    alone = [program.stdout.readline().strip() for program in programs]
    for program in programs:
        program.communicate("end\n")
    assert alone.count("True") == 1, alone


def test_a_small_picture_is_kept_with_a_state_and_goes_with_it(path):
    keep_past(Shot(name="1"), path, NOON, picture=b"a picture")
    (past,) = past_of(path)
    assert past.picture.read_bytes() == b"a picture"
    keep_past(Shot(name="2"), path, NOON + timedelta(hours=1))
    assert not past_of(path)[0].picture.exists()
    for k in range(MOST):
        keep_past(Shot(name=f"V{k}"), path, NOON + timedelta(hours=2 + k))
    assert not past.picture.exists()
    assert len(past_of(path)) == MOST


def test_what_killed_programs_left_beside_the_states_is_swept(path):
    keep_past(Shot(name="1"), path, NOON, picture=b"a picture")
    folder = past_folder(path)
    orphan, foreign, part = (
        folder / name for name in ("20200101T000000.png", "mine.png", ".20200101T000000.abcd1234.part")
    )
    for left in (orphan, foreign, part):
        left.write_bytes(b"x")
    os.utime(part, (0, 0))
    keep_past(Shot(name="2"), path, NOON + timedelta(hours=1))
    assert [left.exists() for left in (orphan, foreign, part)] == [False, True, False]
    assert past_of(path)[1].picture.exists()


def test_a_mark_of_another_machine_counts_while_it_is_renewed(path):
    mark = mark_path(path)
    mark.write_text(json.dumps({"user": "ada", "machine": "elsewhere", "process": 1, "started": 1, "since": 0.0}))
    assert opened_by_others(path).machine == "elsewhere"
    assert opened_by_others(path, now=time.time() + STALE_SECONDS + 1) is None


@pytest.mark.parametrize(
    "text",
    [
        "",
        "[]",
        "{}",
        '{"user": 3}',
        "x" * 9000,
        '{"user": "a", "machine": 2, "process": "x", "started": 1, "since": 0}',
    ],
)
def test_a_damaged_mark_does_not_count(path, text):
    mark_path(path).write_text(text)
    assert opened_by_others(path) is None
