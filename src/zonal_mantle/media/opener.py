"""Files from outside are opened in a process of their own first: a crash in a decoder, which is other people's code,
does not take the application along."""

from __future__ import annotations

import atexit
import logging
import os
import select
import subprocess
import sys
import threading
from collections import OrderedDict
from pathlib import Path

from ..paths import for_library, named, placed, why_no_file
from ..words import say
from .errors import MediaError
from .stamps import Stamp, stamp_of

log = logging.getLogger(__name__)
SECONDS = 20.0  # that a decoder may take for a file
START_SECONDS = 30.0  # that the process may take to begin
MOST_KNOWN = 250_000  # more than a sequence can have
SCRIPT = Path(__file__).with_name("trial.py")


class Opener:
    """One long-lived process that opens files, started when it is first needed and anew where it died. Safe to use
    from several threads."""

    def __init__(self, seconds: float = SECONDS, script: Path = SCRIPT) -> None:
        self._seconds, self._script = seconds, script
        self._process: subprocess.Popen[bytes] | None = None
        self._is_ready = False
        self._known: OrderedDict[tuple[str, Stamp], str] = OrderedDict()
        self._looking, self._asking = threading.Lock(), threading.Lock()  # what is known waits for no file on trial

    def check(self, path: Path) -> None:
        """Opens a file in the other process, once for each time and size of it. What the decoder refuses in words is
        left to the reader proper.

        Raises
        ------
        MediaError : it is no regular file, or its decoder crashed, never ended, or wanted too much memory.
        """
        why = why_no_file(path)
        if why is not None:
            raise MediaError(f"{named(path)} {why}.")
        key = (str(path), stamp_of(str(path)))
        trouble = self._found(key)
        if trouble is None:
            with self._asking:
                trouble = self._found(key)
                if trouble is None:
                    trouble = self._ask(path)
                    with self._looking:
                        self._known[key] = trouble
                        if len(self._known) > MOST_KNOWN:
                            self._known.popitem(last=False)
        if trouble:
            raise MediaError(
                say(
                    "{named} {trouble}. It was not opened; have it delivered again.", named=named(path), trouble=trouble
                )
            )

    def _found(self, key: tuple[str, Stamp]) -> str | None:
        with self._looking:
            return self._known.get(key)

    def _ask(self, path: Path) -> str:
        """What went wrong with the process on a file; empty where nothing did."""
        try:
            process = self._ready()
            assert process.stdin is not None
            assert process.stdout is not None
            process.stdin.write(os.fsencode(for_library(path)).hex().encode() + b"\n")
            process.stdin.flush()
            has_ended = bool(select.select([process.stdout], [], [], self._seconds)[0])
            word = process.stdout.readline().decode().strip() if has_ended else ""
        except BrokenPipeError:
            has_ended, word = True, ""
        except OSError as problem:  # no process can be started: the file is opened as it always was
            log.warning("Files cannot be tried in a process of their own: %s", problem)
            return ""
        if word == "memory":
            return say("makes its decoder want more memory than a picture can need")
        if word:
            return ""
        code = self.close()
        log.info("%s ended the process that tried it (%s)", placed(path), code)
        if has_ended:
            return say("makes its decoder crash")
        return say("keeps its decoder busy for more than {seconds:g} s", seconds=self._seconds)

    def begin(self) -> None:
        """Starts the process ahead of the first file, without waiting for it."""
        with self._asking:
            try:
                self._process = self._process or self._launched()
            except OSError as problem:
                log.warning("Files cannot be tried in a process of their own: %s", problem)

    def _launched(self) -> subprocess.Popen[bytes]:
        command = [sys.executable, "-P", str(self._script)]  # -P: none of our modules stands in for a library's
        self._is_ready = False
        return subprocess.Popen(
            command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, start_new_session=True
        )

    def _ready(self) -> subprocess.Popen[bytes]:
        """The process, once it has said that it is ready."""
        process = self._process = self._process or self._launched()
        assert process.stdout is not None
        if not self._is_ready and select.select([process.stdout], [], [], START_SECONDS)[0]:
            process.stdout.readline()
        self._is_ready = True
        return process

    def close(self) -> int | None:
        """Ends the process. Returns its exit code, None where none ran."""
        process, self._process = self._process, None
        if process is None:
            return None
        process.kill()
        process.communicate()
        return process.returncode


opener = Opener()
atexit.register(opener.close)
