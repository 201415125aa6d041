"""At home on a Linux desktop: entry, icons, file type, AppStream data, by the standards of freedesktop.org."""

import configparser
import shlex
import shutil
import subprocess
import xml.etree.ElementTree as ET

import pytest
from PIL import Image

from zonal_mantle import desktop
from zonal_mantle.cli import main
from zonal_mantle.shot.errors import MantleError

SHARED_MIME = "{http://www.freedesktop.org/standards/shared-mime-info}"
# Desktop Entry Specification 1.5, "Recognized desktop entry keys", those that we use
KEYS = {
    "Type", "Version", "Name", "GenericName", "Comment", "Exec", "TryExec", "Icon", "Terminal", "StartupNotify",
    "StartupWMClass", "Categories", "Keywords", "MimeType",
}  # fmt: skip
# Desktop Menu Specification 1.1, appendix A: main categories, of which one at least has to stand there
MAIN = {"AudioVideo", "Audio", "Video", "Development", "Education", "Game", "Graphics", "Network", "Office", "Utility"}


@pytest.fixture
def home(tmp_path):
    desktop.install(tmp_path, "/opt/with space/zonal-mantle")
    return tmp_path


def test_all_is_put_in_place_and_taken_away_again(home):
    assert all(path.is_file() for path in desktop.places(home).values())
    mine = home / "applications" / "mine.desktop"
    mine.write_text("[Desktop Entry]\n")
    gone = desktop.remove(home)
    assert len(gone) == len(desktop.places(home))
    assert not any(path.exists() for path in gone)
    assert mine.exists()
    assert desktop.remove(home) == []


def test_the_entry_keeps_to_its_standard(home):
    entry = configparser.RawConfigParser(strict=True)
    entry.optionxform = str
    entry.read(home / "applications" / f"{desktop.ID}.desktop")
    values = entry["Desktop Entry"]
    assert set(values) <= KEYS
    assert values["Type"] == "Application"
    assert shlex.split(values["Exec"]) == ["/opt/with space/zonal-mantle", "%f"]
    categories = values["Categories"].removesuffix(";").split(";")
    assert set(categories) & MAIN
    assert "AudioVideo" in categories or "Video" not in categories  # Video stands with AudioVideo alone
    if tool := shutil.which("desktop-file-validate"):
        subprocess.run([tool, str(home / "applications" / f"{desktop.ID}.desktop")], check=True)


def test_the_file_type_belongs_to_shots_alone(home):
    kind = ET.parse(home / "mime" / "packages" / f"{desktop.ID}.xml").getroot().find(f"{SHARED_MIME}mime-type")
    assert kind.get("type") == "application/vnd.zonal-mantle.shot+json"
    globs = [each.get("pattern") for each in kind.findall(f"{SHARED_MIME}glob")]
    assert globs == ["*.shot.json"]
    text = (home / "applications" / f"{desktop.ID}.desktop").read_text()
    assert f"MimeType={kind.get('type')};" in text


def test_the_appstream_data_has_what_it_must(home):
    root = ET.parse(home / "metainfo" / f"{desktop.ID}.metainfo.xml").getroot()
    # AppStream 1.0, chapter 2.2 "Desktop applications": required tags
    for tag in ("id", "metadata_license", "name", "summary", "description", "launchable"):
        assert root.find(tag) is not None, tag
    assert root.get("type") == "desktop-application"
    assert root.findtext("id") == desktop.ID
    assert root.findtext("launchable") == f"{desktop.ID}.desktop"
    assert not root.findtext("summary").endswith(".")
    if tool := shutil.which("appstreamcli"):
        subprocess.run(
            [tool, "validate", "--no-net", str(home / "metainfo" / f"{desktop.ID}.metainfo.xml")], check=True
        )


def test_the_icons_have_their_sizes(home):
    for size in desktop.SIZES:
        with Image.open(home / "icons" / "hicolor" / f"{size}x{size}" / "apps" / f"{desktop.ID}.png") as icon:
            assert icon.size == (size, size)
            assert icon.getextrema()[3] == (0, 255)  # something, on nothing


def test_the_command_says_what_it_did_and_what_stands_in_its_way(tmp_path, monkeypatch, capsys):
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))
    assert main(["desktop", "install"]) == 0
    assert "applications" in capsys.readouterr().out
    assert main(["desktop", "remove"]) == 0
    (tmp_path / "file").write_text("")
    with pytest.raises(MantleError, match="cannot be written"):
        desktop.install(tmp_path / "file")
