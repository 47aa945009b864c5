"""Which system libraries the installed packages link to and the system does not have, by what the linker says.

Run by script/bootstrap; ends with a sentence and exit code 1 if something that the program runs on is missing.
"""

import ctypes
import re
import subprocess
import sys
import sysconfig
from pathlib import Path

# Parts of the wheels that the program loads; the others (databases, sound, other windows' systems) are never asked for
QT = ("QtCore", "QtGui", "QtWidgets", "QtSvg", "QtOpenGL")
PLUGINS = ("platforms/libqoffscreen.so", "platforms/libqminimal.so", "platforms/libqxcb.so", "imageformats/*.so", "egldeviceintegrations/*none*",
           "xcbglintegrations/*.so", "iconengines/*.so")  # fmt: skip
OTHERS = ("numpy", "scipy", "numba", "llvmlite", "moderngl", "glcontext", "coacd", "pydantic_core", "PIL")
# Parts of those that are used only where their library happens to be there
OPTIONAL = ("libqpdf", "tbbpool", "omppool", "workqueue")
# Opened by name while it runs
BY_NAME = ("libEGL.so.1", "libGL.so.1")
PACKAGES = {
    "libglib-2.0.so.0": "libglib2.0-0", "libgthread-2.0.so.0": "libglib2.0-0", "libEGL.so.1": "libegl1", "libGL.so.1": "libgl1",
    "libxkbcommon.so.0": "libxkbcommon0", "libxkbcommon-x11.so.0": "libxkbcommon-x11-0", "libdbus-1.so.3": "libdbus-1-3",
    "libfontconfig.so.1": "libfontconfig1", "libfreetype.so.6": "libfreetype6", "libxcb-cursor.so.0": "libxcb-cursor0",
    "libxcb-icccm.so.4": "libxcb-icccm4", "libxcb-image.so.0": "libxcb-image0", "libxcb-keysyms.so.1": "libxcb-keysyms1",
    "libxcb-randr.so.0": "libxcb-randr0", "libxcb-render-util.so.0": "libxcb-render-util0", "libxcb-shape.so.0": "libxcb-shape0",
    "libxcb-xinerama.so.0": "libxcb-xinerama0", "libX11-xcb.so.1": "libx11-xcb1", "libgomp.so.1": "libgomp1", "libz.so.1": "zlib1g",
    "libstdc++.so.6": "libstdc++6", "libgcc_s.so.1": "libgcc-s1",
}  # fmt: skip


def objects() -> list[Path]:
    """The shared objects that the program loads."""
    site = Path(sysconfig.get_paths()["purelib"])
    qt = site / "PySide6"
    found = [
        p for name in QT for p in (*qt.glob(f"{name}.abi3.so"), *qt.glob(f"Qt/lib/lib{name.replace('Qt', 'Qt6')}.so.6"))
    ]
    found += [p for pattern in PLUGINS for p in qt.glob(f"Qt/plugins/{pattern}")]
    for name in OTHERS:
        found += (site / name).rglob("*.so") if (site / name).is_dir() else site.glob(f"{name}*.so")
    return [p for p in found if p.name.split(".")[0] not in OPTIONAL]


def missing() -> dict[str, str]:
    """Libraries that are not found, and one of the files that needs each."""
    found: dict[str, str] = {}
    for path in objects():
        said = subprocess.run(["ldd", str(path)], capture_output=True, text=True, check=False).stdout
        for name in re.findall(r"^\s*(\S+) => not found", said, re.M):
            found.setdefault(name, path.name)
    for name in BY_NAME:
        try:
            ctypes.CDLL(name)
        except OSError:
            found.setdefault(name, "the stage")
    return found


def main() -> None:
    gone = missing()
    if not gone:
        return
    packages = sorted({PACKAGES[n] for n in gone if n in PACKAGES})
    words = ", ".join(f"{n} (for {p})" for n, p in sorted(gone.items()))
    print(f"System libraries are missing: {words}.", file=sys.stderr)
    if packages:
        print(f"On Debian: sudo apt-get install -y --no-install-recommends {' '.join(packages)}", file=sys.stderr)
    sys.exit(1)


if __name__ == "__main__":
    main()
