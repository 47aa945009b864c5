"""The program in the desktop's menus of one user: entry, icon and file type (freedesktop.org: Desktop Entry, Shared MIME-info, Icon Theme)."""

import os
import shutil
import subprocess
import sys
from contextlib import suppress
from pathlib import Path

from artuline.core.errors import ArtulineError
from artuline.formats.files import reason, write_whole

MIME = "application/x-artuline-scene"


def data_folder() -> Path:
    """Where the user's own entries are kept (XDG base directories)."""
    return Path(os.environ.get("XDG_DATA_HOME") or Path.home() / ".local" / "share")


def _files(icon: bytes) -> dict[Path, bytes]:
    base = data_folder()
    program = shutil.which("artuline") or f"{sys.executable} -m artuline.cli"
    if shutil.which("artuline") is None and (Path(sys.executable).parent / "artuline").is_file():
        program = str(Path(sys.executable).parent / "artuline")
    command = '"' + program.replace('"', r"\"") + '"' if Path(program).is_file() else program
    entry = f"""[Desktop Entry]
Type=Application
Name=Artuline
GenericName=Ragdoll animation
Comment=Hand a figure over to physics, get keys back
Exec={command} %f
Icon=artuline
Terminal=false
Categories=Graphics;3DGraphics;
MimeType={MIME};
StartupWMClass=artuline
"""
    kind = f"""<?xml version="1.0" encoding="UTF-8"?>
<mime-info xmlns="http://www.freedesktop.org/standards/shared-mime-info">
  <mime-type type="{MIME}">
    <comment>Artuline scene</comment>
    <sub-class-of type="application/zip"/>
    <icon name="artuline"/>
    <glob pattern="*.artuline"/>
  </mime-type>
</mime-info>
"""
    return {
        base / "applications" / "artuline.desktop": entry.encode(),
        base / "mime" / "packages" / "artuline.xml": kind.encode(),
        base / "icons" / "hicolor" / "256x256" / "apps" / "artuline.png": icon,
    }


def _refresh() -> None:
    """Let the desktop look again, where its tools are there."""
    base = data_folder()
    for tool, place in (("update-desktop-database", base / "applications"), ("update-mime-database", base / "mime")):
        found = shutil.which(tool)
        if found is not None and place.is_dir():
            with suppress(OSError, subprocess.SubprocessError):
                subprocess.run([found, str(place)], check=False, capture_output=True, timeout=30)


def install(icon: bytes) -> list[Path]:
    """Write entry, file type and icon (PNG) for this user; returns what was written. Raises ArtulineError."""
    made = _files(icon)
    for path, data in made.items():
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
        except OSError as error:
            raise ArtulineError(f"cannot be made ({reason(error)})", place=str(path.parent)) from error
        write_whole(path, lambda p, data=data: _put(p, data))  # type: ignore[misc]
    _refresh()
    return list(made)


def _put(path: Path, data: bytes) -> None:
    path.write_bytes(data)


def uninstall() -> list[Path]:
    """Take away what ``install`` wrote; returns what was there. Raises ArtulineError."""
    gone = []
    for path in _files(b""):
        try:
            path.unlink()
            gone.append(path)
        except FileNotFoundError:
            continue
        except OSError as error:
            raise ArtulineError(f"cannot be removed ({reason(error)})", place=str(path)) from error
    _refresh()
    return gone
