"""Where the application keeps what is not part of a shot, and paths as text, in sentences and for libraries."""

from __future__ import annotations

import atexit
import contextlib
import glob
import logging
import os
import re
import secrets
import shutil
import stat
import tempfile
import time
from collections.abc import Iterable, Iterator
from pathlib import Path

import platformdirs

from .words import say

log = logging.getLogger(__name__)
DEAD_SECONDS = 600.0  # after which nobody still writes a part file


def cache_dir() -> Path:
    """Folder for what can be made again: compiled kernels, the demo."""
    return _made(cache_dir_name())


def cache_dir_name() -> Path:
    """Where that folder is, there or not."""
    return platformdirs.user_cache_path("zonal-mantle")


def state_dir() -> Path:
    """Folder for the log, recent shots and autosaves of unnamed shots."""
    return _made(platformdirs.user_state_path("zonal-mantle"))


def log_path() -> Path:
    """The log; the one before it has `.1` behind its name."""
    return state_dir() / "zonal-mantle.log"


def looks_dir() -> Path:
    """Folder for a person's own looks, there or not."""
    return platformdirs.user_data_path("zonal-mantle") / "looks"


def languages_dir() -> Path:
    """Folder for translations of the window, there or not."""
    return platformdirs.user_data_path("zonal-mantle") / "languages"


def _made(path: Path) -> Path:
    path.mkdir(parents=True, exist_ok=True)
    return path


def multiply_on_one_core() -> None:
    """Matrices are multiplied on one core, unless somebody chose otherwise: pictures are read and made beside it on all
    cores, and a product that waits for its own other half takes several times as long. Counts where NumPy is not loaded
    yet."""
    os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")


def keep_kernels_in_cache() -> None:
    """Lets compiled kernels be kept in the cache folder, also when the program is installed read-only; in a temporary
    folder where nothing can be written at home."""
    if "NUMBA_CACHE_DIR" in os.environ:
        return
    try:
        folder = cache_dir() / "kernels"
        folder.mkdir(parents=True, exist_ok=True)
        with tempfile.TemporaryFile(dir=folder):
            pass
    except OSError:
        folder = Path(tempfile.gettempdir()) / f"zonal-mantle-kernels-{os.getuid()}"
        folder.mkdir(mode=0o700, exist_ok=True)
        log.warning("Nothing can be written at %s; compiled kernels are kept in %s.", cache_dir_name(), folder)
    os.environ["NUMBA_CACHE_DIR"] = str(folder)


# Bytes of a name that are not UTF-8 come from the system as lone surrogates, which no text file can hold and no library
# takes. As text they are characters of the private use area from here on.
_PRIVATE, _SURROGATE = 0xF700, 0xDC00


def as_text(path: Path | str) -> str:
    """A path as text that can be kept in a file and shown, whatever bytes its name has; see `on_disk`."""
    return "".join(chr(ord(c) - _SURROGATE + _PRIVATE) if 0xDC80 <= ord(c) <= 0xDCFF else c for c in str(path))


def on_disk(text: str) -> str:
    """The path that `as_text` told.

    >>> on_disk(as_text("sky_\\udce9t\\udce9.png")) == "sky_\\udce9t\\udce9.png"
    True
    """
    return "".join(chr(ord(c) - _PRIVATE + _SURROGATE) if 0xF780 <= ord(c) <= 0xF7FF else c for c in text)


def named(path: Path | str, most: int = 80) -> str:
    """A file's name for a sentence: what does not print as an escape, cut in the middle where it is long.

    >>> named("/plates/a\\nb.exr"), named("x" * 300, 9)
    ('a\\\\nb.exr', 'xxxx…xxxx')
    """
    return _shown(Path(path).name or str(path), most)


def placed(path: Path | str) -> str:
    """A path for a sentence, as `named`."""
    return _shown(str(path), 300)


def _shown(text: str, most: int) -> str:
    whole = os.fsencode(on_disk(text)).decode("utf-8", "backslashreplace")
    whole = "".join(c if c.isprintable() else c.encode("unicode_escape").decode() for c in whole)
    half = (most - 1) // 2
    return whole if len(whole) <= most else f"{whole[:half]}…{whole[-half:]}"


def why_not(problem: Exception) -> str:
    """What an error of the system says, without numbers and paths."""
    return (problem.strerror or say("the system gives no reason")) if isinstance(problem, OSError) else str(problem)


def why_no_writing(problem: Exception) -> str:
    """The same of a library's error in writing, which mostly does not say why."""
    return (
        why_not(problem)
        if isinstance(problem, OSError)
        else say("the disk may be full, or nothing may be written there")
    )


def why_no_file(path: Path | str) -> str | None:
    """Why a path is no regular file that can be opened, to be said after its name; None where it is one. Links are
    followed. Nothing is opened, so that a pipe or a device holds nobody up."""
    try:
        mode = os.stat(path).st_mode
    except FileNotFoundError:
        return say("is missing from {placed}", placed=placed(Path(path).parent))
    except ValueError:  # a zero byte
        return say("has a name that no file can have")
    except OSError as problem:
        return say("cannot be read: {why}", why=problem.strerror)
    if stat.S_ISREG(mode):
        return None
    kinds = ((stat.S_ISDIR, say("a folder")), (stat.S_ISFIFO, say("a pipe")), (stat.S_ISSOCK, say("a socket")))
    return say("is {kind}, not a file", kind=next((word for is_kind, word in kinds if is_kind(mode)), say("a device")))


def write_whole(path: Path, content: str | bytes, mode: int | None = None) -> None:
    """Writes a file whole or not at all: under another name beside it, flushed to disk, then renamed. A killed write
    leaves a hidden file that ends in .part.

    Raises
    ------
    OSError : it cannot be written; what was there stays.
    """
    data = content.encode() if isinstance(content, str) else content
    handle, part = tempfile.mkstemp(dir=path.parent, prefix=part_start(path.name), suffix=".part")
    try:
        with os.fdopen(handle, "wb") as file:
            file.write(data)
            file.flush()
            os.fsync(file.fileno())
        os.chmod(part, _usual_mode(path) if mode is None else mode)
        os.replace(part, path)
    except BaseException:
        Path(part).unlink(missing_ok=True)
        raise


@contextlib.contextmanager
def written_whole(path: Path) -> Iterator[Path]:
    """A name beside a file, with the same ending, that a library writes to; the file has its own name once all of the
    block went well. No two writers have the same.

    Raises
    ------
    OSError : it was not written, or cannot be flushed to disk or renamed.
    """
    part = path.with_name(f"{part_start(path.stem)}{os.getpid()}-{secrets.token_hex(4)}.part{path.suffix}")
    try:
        yield part
        with part.open("rb") as file:
            os.fsync(file.fileno())
        os.replace(part, path)
    finally:
        part.unlink(missing_ok=True)


def sweep_all(folders: Iterable[Path]) -> None:
    """Removes what killed writers left in folders, whatever they wrote; see `sweep_parts`."""
    for folder in folders:
        sweep_parts(folder, "")


def sweep_parts(folder: Path, name: str) -> None:
    """Removes what writers of files whose names begin so left that were killed: part files so old that nobody writes
    them any more."""
    try:
        for left in folder.glob(f"{glob.escape(part_start(name)[:-1])}*.part*"):
            ours = re.search(r"\.[a-z0-9_]{8}\.part$|\.\d+-[0-9a-f]{8}\.part(\.\w+)?$", left.name)
            if (name or ours) and time.time() - left.stat().st_mtime > DEAD_SECONDS:
                left.unlink(missing_ok=True)
    except OSError as problem:
        log.info("Part files beside %s were left: %s", name, problem)


def part_start(name: str) -> str:
    """How the names of part files begin; long names are cut, so that a number still goes behind."""
    return f".{name[:60]}."


def _usual_mode(path: Path) -> int:
    """Who may read and write a file: as it is, and as the person's own new files are where there is none yet."""
    try:
        return stat.S_IMODE(path.stat().st_mode)
    except OSError:
        mask = os.umask(0)
        os.umask(mask)
        return 0o666 & ~mask


_links: dict[str, str] = {}


def for_library(path: Path | str) -> str:
    """A path as libraries take it that want UTF-8: itself, or a link to its folder under a plain name."""
    text = str(path)
    try:
        text.encode()
    except UnicodeEncodeError:
        folder, name = os.path.split(os.path.abspath(text))
        return os.path.join(_link(folder), name) if _is_plain(name) else _link(os.path.join(folder, name))
    return text


def _is_plain(name: str) -> bool:
    return not any(0xDC80 <= ord(c) <= 0xDCFF for c in name)


def _link(target: str) -> str:
    if target not in _links:
        folder = tempfile.mkdtemp(prefix="zonal-mantle-")
        atexit.register(shutil.rmtree, folder, True)
        ending = os.path.splitext(target)[1]
        link = os.path.join(folder, f"file{ending if _is_plain(ending) else ''}")
        os.symlink(target, link)
        _links[target] = link
    return _links[target]
