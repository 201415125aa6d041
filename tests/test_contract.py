"""The import contract keeps up with the packages that there are."""

import tomllib
from pathlib import Path

ROOT = Path(__file__).parents[1]
FOLDER = ROOT / "src" / "zonal_mantle"
WITH_QT = {"ui", "cli"}  # the command line opens the window


def contract(kind: str) -> dict:
    settings = tomllib.loads((ROOT / "pyproject.toml").read_text())
    return next(each for each in settings["tool"]["importlinter"]["contracts"] if each["type"] == kind)


def parts() -> set[str]:
    """All packages and modules of the first level but for those that may know Qt."""
    folders = {path.parent.name for path in FOLDER.glob("*/__init__.py")}
    files = {path.stem for path in FOLDER.glob("*.py") if not path.stem.startswith("__")}
    return (folders | files) - WITH_QT


def test_every_part_of_the_core_is_forbidden_to_import_qt():
    named = {name.removeprefix("zonal_mantle.") for name in contract("forbidden")["source_modules"]}
    assert parts() - named == set(), "name the new package in the contract of pyproject.toml"


def test_every_package_of_the_core_has_its_layer():
    layered = {
        name.strip().removeprefix("zonal_mantle.") for line in contract("layers")["layers"] for name in line.split("|")
    }
    packages = {path.parent.name for path in FOLDER.glob("*/__init__.py")}
    assert packages - layered == set(), "give the new package its layer in pyproject.toml"


def test_only_the_interface_names_qt():
    naming = [
        str(path.relative_to(FOLDER))
        for path in FOLDER.rglob("*.py")
        if "PySide6" in path.read_text() and path.relative_to(FOLDER).parts[0] != "ui"
    ]
    assert naming == []
