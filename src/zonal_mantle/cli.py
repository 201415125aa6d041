"""The command line."""

from __future__ import annotations

import argparse
import contextlib
import gc
import io
import json
import sys
import traceback
from collections.abc import Iterator
from pathlib import Path

from . import __version__
from .paths import log_path, placed
from .shot.errors import MantleError


@contextlib.contextmanager
def _loading() -> Iterator[None]:
    """Modules are loaded in it, of which all stays: Python does not look for garbage meanwhile."""
    gc.disable()
    try:
        yield
    finally:
        gc.enable()


def _window(shot: Path | None) -> int:
    """Opens the window on a shot, or empty."""
    with _loading():
        from .media.opener import opener

        opener.begin()  # it loads its decoders meanwhile
        from . import api  # noqa: F401  before Qt, which reads the source of each module that comes after it
        from .ui.app import run
    return run(shot)


def _parser() -> argparse.ArgumentParser:
    parser = argparse.ArgumentParser(
        prog="zonal-mantle", description="Sky replacement and set extension for moving shots."
    )
    parser.add_argument("--version", action="version", version=__version__)
    parser.add_argument(
        "shot", nargs="?", help="a shot to open in the window; or one of: demo, render, check, fit, desktop"
    )
    return parser


def _demo(arguments: list[str]) -> int:
    parser = argparse.ArgumentParser(prog="zonal-mantle demo", description="Opens the Saltern demo, or writes it.")
    parser.add_argument("--write", metavar="DIR", type=Path, help="write the demo into a folder instead of opening it")
    parser.add_argument("--seed", type=int, default=7)
    parser.add_argument("--size", default="1280x720", help="width x height")
    parser.add_argument("--frames", type=int, default=48)
    parser.add_argument("--finished", action="store_true", help="also write the generator's own finished picture")
    options = parser.parse_args(arguments)
    with _loading():
        from .demo import NAME, VERSION, DemoPlan, demo_shot, make_demo
    from .paths import cache_dir

    width, _, height = options.size.partition("x")
    if not (width.isdecimal() and height.isdecimal() and 64 <= int(width) <= 8192 and 64 <= int(height) <= 8192):
        parser.error(f"--size takes a width and a height of 64 to 8192 such as 1280x720, not {options.size}")
    if not 1 <= options.frames <= 10_000 or options.seed < 0:
        parser.error("--frames takes 1 to 10000, --seed a number from 0 on")
    plan = DemoPlan(seed=options.seed, size=(int(width), int(height)), frames=options.frames, finished=options.finished)
    if options.write is not None:
        print(make_demo(options.write, plan, _report))
        return 0
    usual = DemoPlan()
    if (plan.seed, plan.size, plan.frames) == (usual.seed, usual.size, usual.frames):
        shot = demo_shot(_report)
    else:
        folder = cache_dir() / f"demo-{VERSION}-{plan.seed}-{options.size}-{plan.frames}"
        shot = folder / f"{NAME}.shot.json"
        if not shot.exists():
            print("Filming another demo; this is done once and takes a few minutes.", file=sys.stderr)
            make_demo(folder, plan, _report)
    return _window(shot)


def _report(share: float, words: str) -> None:
    end = "\n" if share >= 1 else "\r"
    print(f"{share:4.0%}  {words:<48}", end=end, file=sys.stderr, flush=True)


def _render(arguments: list[str]) -> int:
    parser = argparse.ArgumentParser(prog="zonal-mantle render", description="Renders a shot's frames.")
    parser.add_argument("shot", type=Path)
    parser.add_argument("--out", type=Path, required=True, help="the folder to render into")
    parser.add_argument("--frames", metavar="A-B", help="first and last frame")
    parser.add_argument("--scale", type=float, default=1.0)
    parser.add_argument("--format", choices=("exr", "png", "h264", "prores"), default="exr")
    parser.add_argument("--depth", choices=("half", "float"), default="half", help="of EXR")
    parser.add_argument("--resume", action="store_true", help="keep whole frames of the shot as it is now")
    options = parser.parse_args(arguments)
    from .render import RenderPlan, render
    from .shot import load

    first = last = None
    if options.frames:
        a, _, b = options.frames.partition("-")
        try:
            first, last = int(a), int(b or a)
        except ValueError:
            parser.error(f"--frames takes two numbers such as 1001-1048, not {options.frames}")
    plan = RenderPlan(options.out, options.format, first, last, options.scale, options.resume, options.depth)
    for path in render(load(options.shot), plan, _report):
        print(path)
    return 0


def _check(arguments: list[str]) -> int:
    parser = argparse.ArgumentParser(prog="zonal-mantle check", description="Measures all readings of a shot.")
    parser.add_argument("shot", type=Path)
    parser.add_argument("--json", action="store_true", help="print everything as JSON")
    parser.add_argument(
        "--files", action="store_true", help="only list the files that it names; none of them is opened"
    )
    options = parser.parse_args(arguments)
    if options.files:
        from .shot import load
        from .shot.file import files_named

        for named_file, outside in files_named(load(options.shot), options.shot):
            print(f"{'outside' if outside else 'inside '}  {placed(named_file)}")
        return 0
    from .api import open_shot

    readings = open_shot(options.shot).readings(_report)
    if options.json:
        print(json.dumps(readings.as_dict(), indent=1, ensure_ascii=False, allow_nan=False))
    else:
        for finding in readings.findings:
            print(f"{finding.stage}, frame {finding.frame}: {finding.words}")
        print(f"{len(readings.findings)} findings")
    return 0


def _fit(arguments: list[str]) -> int:
    parser = argparse.ArgumentParser(
        prog="zonal-mantle fit", description="Measures the match of a shot's zones on its plate and writes the shot."
    )
    parser.add_argument("shot", type=Path)
    parser.add_argument("--zone", metavar="ID", action="append", help="one zone; all that are not plate by default")
    parser.add_argument("--part", choices=("tone", "air", "lens", "wrap", "grain"), action="append")
    options = parser.parse_args(arguments)
    from .api import open_shot

    session = open_shot(options.shot)
    if options.part:
        zones = options.zone or [z.id for z in session.shot.near_to_far() if not session.shot.holds_plate(z)]
        for zone in zones:
            for part in options.part:
                found = session.fit(zone, part, progress=_report)
                print(f"{session.shot.zone(zone).name}, {part}: {found.words}")
    else:
        found_all = session.fit_all(options.zone, _report)
        for each in found_all.fitted:
            print(f"{each.part}: {each.words}")
        for part, words in found_all.refused.items():
            print(f"{part} not measured: {words}")
    session.save()
    return 0


def _desktop(arguments: list[str]) -> int:
    parser = argparse.ArgumentParser(
        prog="zonal-mantle desktop", description="Puts the application into the desktop's menus, or takes it out."
    )
    parser.add_argument("act", choices=("install", "remove"))
    options = parser.parse_args(arguments)
    from . import desktop

    done = desktop.install() if options.act == "install" else desktop.remove()
    for path in done:
        print(path)
    return 0


def _unforeseen(problem: Exception) -> str:
    """Words on an error that nobody thought of; the log gets all of it."""
    words = f"{problem.strerror}: {placed(problem.filename or '')}" if isinstance(problem, OSError) else str(problem)
    words = " ".join(words.split())[:200]
    try:
        path = log_path()
        with path.open("a", encoding="utf-8", errors="backslashreplace") as file:
            traceback.print_exception(problem, file=file)
    except OSError:
        return f"{type(problem).__name__}: {words}."
    return f"{type(problem).__name__}: {words}. {path} has the details."


def main(arguments: list[str] | None = None) -> int:
    """Runs a command; problems are one sentence on standard error and exit code 1, with details in the log where it is
    no problem that is known."""
    if isinstance(sys.stdout, io.TextIOWrapper):
        sys.stdout.reconfigure(errors="surrogateescape")  # paths leave as they are on disk
    arguments = sys.argv[1:] if arguments is None else arguments
    commands = {"demo": _demo, "render": _render, "check": _check, "fit": _fit, "desktop": _desktop}
    try:
        if arguments and arguments[0] in commands:
            return commands[arguments[0]](arguments[1:])
        options = _parser().parse_args(arguments)
        return _window(Path(options.shot) if options.shot else None)
    except MantleError as problem:
        print(f"zonal-mantle: {problem}", file=sys.stderr)
        return 1
    except BrokenPipeError:  # whoever read what is printed has gone
        sys.stdout = None  # type: ignore[assignment]
        return 1
    except Exception as problem:
        print(f"zonal-mantle: That failed: {_unforeseen(problem)}", file=sys.stderr)
        return 1
    except KeyboardInterrupt:
        print("Cancelled.", file=sys.stderr)
        return 130


if __name__ == "__main__":
    sys.exit(main())
