"""Files that were damaged on purpose: every reader answers each with what it holds or with one sentence that names it.

The damage is that of fuzzing without coverage (Miller, Fredriksen & So 1990; the operators of Zalewski's AFL, told from
memory): bits and bytes turned, numbers set to the ends of their ranges, pieces cut out, doubled, moved and cut short.
"""

from __future__ import annotations

import json
import random
import select
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path
from types import TracebackType

from .report import Report

SECONDS = 5.0
WORDS_OF_VALIDATORS = ("validation error", "Input should be", "type=", "For further information", "Traceback", "errno")
KINDS = {
    ".png": "picture", ".exr": "picture", ".jpg": "picture", ".tif": "picture", ".dpx": "picture", ".hdr": "picture",
    ".mp4": "picture", ".mov": "picture", ".mkv": "picture", ".json": "shot", ".lock": "lock", ".csv": "lock",
    ".usda": "lock", ".svg": "shapes", ".cc": "cdl", ".ccc": "cdl", ".cdl": "cdl", ".cube": "lut", ".clf": "lut",
    ".look": "look",
}  # fmt: skip


class Reader:
    """The process that reads; started anew where it died or was stopped."""

    def __init__(self, warm: tuple[str, str] | None = None) -> None:
        self._warm = warm  # what is read once before time counts: a kind and a path
        self._process: subprocess.Popen[bytes] | None = None

    def __enter__(self) -> Reader:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, where: TracebackType | None
    ) -> None:
        self._stop()

    def read(self, kind: str, path: Path) -> tuple[str, str]:
        """How a file was answered: read, said, raw, memory, crash or hang; and the words."""
        if self._process is None:
            self._start(path)
        went, words = self._ask(kind, path, SECONDS)
        if went == "hang" and self._warm is not None:  # it may have compiled, which is done once: twice more
            self._start(path)
            if self._ask(kind, path, 60.0)[0] != "hang":
                went, words = self._ask(kind, path, SECONDS)
        return went, words

    def _start(self, path: Path) -> None:
        self._process = subprocess.Popen(
            [sys.executable, str(Path(__file__).with_name("reader.py"))],
            stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL,
        )  # fmt: skip
        warm = path.with_name("warm.json")
        warm.write_text("{}")
        self._ask("shot", warm, 60.0)
        if self._warm is not None:
            self._ask(self._warm[0], Path(self._warm[1]), 120.0)

    def _ask(self, kind: str, path: Path, seconds: float) -> tuple[str, str]:
        process = self._process
        assert process is not None
        assert process.stdin is not None
        assert process.stdout is not None
        try:
            process.stdin.write((json.dumps({"kind": kind, "path": str(path)}) + "\n").encode())
            process.stdin.flush()
            ready = select.select([process.stdout], [], [], seconds)[0]
            line = process.stdout.readline() if ready else b""
        except BrokenPipeError:
            ready, line = [process.stdout], b""
        if line:
            answer = json.loads(line)
            return answer["went"], answer["words"]
        self._stop()
        return ("crash", f"ended with {process.returncode}") if ready else ("hang", f"over {seconds:g} s")

    def _stop(self) -> None:
        if self._process is not None:
            if self._process.poll() is None:
                time.sleep(0.05)
                self._process.kill()
            self._process.communicate()
            self._process = None


def mutated(data: bytes, chance: random.Random) -> bytes:
    """A file's bytes with one to eight damages."""
    out = bytearray(data)
    for _ in range(chance.choice((1, 1, 1, 2, 4, 8))):
        if not out:
            break
        at = min(int(chance.random() ** chance.choice((1, 3)) * len(out)), len(out) - 1)  # heads matter more
        size = min(chance.choice((1, 2, 4, 8, 40, 400)), len(out) - at)
        kind = chance.randrange(9)
        if kind == 0:
            out[at] ^= 1 << chance.randrange(8)
        elif kind == 1:
            out[at] = chance.randrange(256)
        elif kind == 2:
            end = chance.choice((b"\0", b"\xff", b"\x7f"))
            out[at : at + size] = end * size
        elif kind == 3:
            del out[at : at + size]
        elif kind == 4:
            out[at:at] = out[at : at + size]
        elif kind == 5:
            del out[at:]
        elif kind == 6:
            out[at:at] = chance.randbytes(size)
        elif kind == 7:
            other = chance.randrange(len(out))
            out[at : at + size] = out[other : other + size]
        else:
            digits = [k for k in range(at, min(at + 400, len(out))) if 48 <= out[k] <= 57]
            word = chance.choice((b"nan", b"-1", b"1e999", b"9" * 30, b"null", b"[]", b"{}", b'"x"', b"0", b"1e300"))
            if digits:
                out[digits[0] : digits[0] + 1] = word
    return bytes(out)


def drill(samples: list[Path], work: Path, count: int, seed: int, corpus: Path | None = None) -> Report:
    """Reads `count` damaged files made of good ones, whose endings say by which reader; those that were answered badly
    are kept in `corpus`."""
    report = Report("mutants", seed)
    chance = random.Random(seed)
    with Reader() as reader:
        for number in range(count):
            sample = samples[number % len(samples)]
            path = work / f"mutant{sample.suffix}"
            path.write_bytes(mutated(sample.read_bytes(), chance))
            went, words = answered(reader, path)
            report.count(f"{went} {sample.suffix}")
            if went not in ("read", "said"):
                report.fault(f"{number} {sample.name}: {went}: {words[:300]}")
                if corpus is not None:
                    corpus.mkdir(parents=True, exist_ok=True)
                    path.rename(corpus / f"{went}-{seed}-{number}{sample.suffix}")
    return report


def answered(reader: Reader, path: Path) -> tuple[str, str]:
    """How a file was answered; `dump` where the sentence is a validator's or a library's, or does not name it."""
    went, words = reader.read(KINDS[path.suffix], path)
    if went == "said" and is_bad_sentence(words, path):
        return "dump", words
    return went, words


def is_bad_sentence(words: str, path: Path, needs_name: bool = True) -> bool:
    """Whether words that a person gets are no sentence of ours: without the file's name, over lines, or dumped."""
    return (
        (needs_name and path.name not in words)
        or "\n" in words
        or len(words) > 400
        or any(dump in words for dump in WORDS_OF_VALIDATORS)
        or str(path.parent) * 2 in words
    )


def corpus_of(folder: Path) -> Iterator[Path]:
    """The files that were answered badly once."""
    return (path for path in sorted(folder.iterdir()) if path.suffix in KINDS)
