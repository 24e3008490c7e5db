"""Kestrav in the user's menus, and out again."""

import configparser
import os
import subprocess
from pathlib import Path
from xml.etree import ElementTree

import pytest
from PySide6.QtGui import QIcon

from kestrav.app.shell.start import has_portal

ROOT = Path(__file__).parents[1]


def installed(home, *words):
    surroundings = {**os.environ, "HOME": str(home)}
    surroundings.pop("XDG_DATA_HOME", None)
    return subprocess.run([ROOT / "scripts" / "install", *words], env=surroundings, capture_output=True, text=True)


def test_the_desktop_finds_the_command_its_icon_and_its_kind_of_file(tmp_path):
    told = installed(tmp_path)
    assert told.returncode == 0, told.stderr
    share = tmp_path / ".local" / "share"
    entry = configparser.ConfigParser(interpolation=None)
    entry.optionxform = str
    entry.read(share / "applications" / "kestrav.desktop")
    desktop = entry["Desktop Entry"]
    # keys that the Desktop Entry Specification 1.5 requires of an application, and what opens a file
    assert desktop["Type"] == "Application" and desktop["Name"] and desktop["Exec"].endswith('kestrav" %f')
    assert all(desktop[key].endswith(";") for key in ("Categories", "MimeType", "Keywords"))
    mime = ElementTree.parse(share / "mime" / "packages" / "kestrav.xml").getroot()
    space = "{http://www.freedesktop.org/standards/shared-mime-info}"
    (kind,) = mime.findall(f"{space}mime-type")
    assert kind.get("type") in desktop["MimeType"] and kind.find(f"{space}glob").get("pattern") == "*.kestrav"
    assert (tmp_path / ".local" / "bin" / "kestrav").resolve().name == "kestrav"
    manual = (share / "man" / "man1" / "kestrav.1").read_text()
    from kestrav.cli.commands import COMMANDS

    assert all(f".B {command}\n" in manual for command in COMMANDS)


@pytest.mark.parametrize(("bus", "service", "portal"), [(True, True, True), (True, False, False), (False, True, False)])
def test_the_desktop_s_dialogs_are_used_where_it_has_a_portal(tmp_path, monkeypatch, bus, service, portal):
    # where a session's services are: D-Bus Specification 0.43, “Session services”
    if service:
        folder = tmp_path / "dbus-1" / "services"
        folder.mkdir(parents=True)
        (folder / "org.freedesktop.portal.Desktop.service").write_text("[D-BUS Service]\n")
    monkeypatch.setenv("XDG_DATA_DIRS", f"/nowhere:{tmp_path}")
    monkeypatch.delenv("DBUS_SESSION_BUS_ADDRESS", raising=False)
    if bus:
        monkeypatch.setenv("DBUS_SESSION_BUS_ADDRESS", "unix:path=/run/bus")
    assert has_portal() is portal


def test_it_is_taken_out_whole_and_what_is_not_its_own_stays(tmp_path):
    installed(tmp_path)
    assert installed(tmp_path, "remove").returncode == 0
    assert [p for p in (tmp_path / ".local").rglob("*kestrav*") if p.is_file() or p.is_symlink()] == []
    own = tmp_path / ".local" / "bin" / "kestrav"
    own.write_text("somebody's own script")
    told = installed(tmp_path)
    assert told.returncode == 2 and "move it away" in told.stderr
    assert own.read_text() == "somebody's own script"
    installed(tmp_path, "remove")
    assert own.exists()


@pytest.mark.parametrize("size", [16, 48, 256])
def test_its_icon_is_drawn_at_every_size(qapp, size):
    icon = QIcon(str(ROOT / "src" / "kestrav" / "assets" / "desktop" / "kestrav.svg"))
    picture = icon.pixmap(size, size).toImage()
    assert picture.width() == size
    assert len({picture.pixelColor(x, y).name() for x in range(size) for y in range(size)}) > 3
