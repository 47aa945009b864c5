"""Unsaved work: a file for every open document in the user's state folder, which outlives the program if it ends badly.

Each file has a lock that its program holds; what is not locked was left behind. Only the user can read the folder.
"""

import fcntl
import json
import os
import secrets
import time
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path

from artuline.core.errors import ArtulineError
from artuline.core.scene.assets import AssetStore
from artuline.core.scene.model import Scene
from artuline.formats.files import clear_parts, reason, write_whole
from artuline.formats.salvage import salvage_scene
from artuline.formats.scene_file import MOST_EVER, load_scene, save_scene


def state_folder() -> Path:
    """The user's folder for what the program remembers (XDG base directories)."""
    try:
        base = Path(os.environ.get("XDG_STATE_HOME") or Path.home() / ".local" / "state")
    except RuntimeError:
        # nobody knows where this user is at home
        base = Path("/nonexistent")
    return base / "artuline"


def recovery_folder() -> Path:
    """Where unsaved work is kept."""
    return state_folder() / "unsaved"


@dataclass(frozen=True)
class Left:
    """Work that was left behind: its file, what the scene was called, where it was saved last (or empty), when it was kept (s since 1970),
    a small picture (PNG), if there is one, and the digest of what lay where it was saved last.
    """

    file: Path
    name: str
    source: str
    when: float
    picture: bytes | None
    digest: str = ""

    @property
    def words(self) -> str:
        """Name and time, for people."""
        return f"{self.name}, {time.strftime('%-d %B %Y, %H:%M', time.localtime(self.when))}"


class Recovery:
    """The place of one document's unsaved work."""

    def __init__(self) -> None:
        self._stem = f"{os.getpid()}-{secrets.token_hex(6)}"
        self._lock = -1

    @property
    def file(self) -> Path:
        """The file that holds the work, once it was kept."""
        return recovery_folder() / f"{self._stem}.artuline"

    def keep(self, scene: Scene, assets: AssetStore, source: Path | None, picture: bytes | None = None) -> None:
        """Keep a scene. Raises ArtulineError if that is not possible."""
        folder = recovery_folder()
        try:
            folder.mkdir(parents=True, exist_ok=True, mode=0o700)
            os.chmod(folder, 0o700)
            if self._lock < 0:
                self._lock = os.open(self.file.with_suffix(".lock"), os.O_CREAT | os.O_RDWR | os.O_NOFOLLOW, 0o600)
                fcntl.flock(self._lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError as error:
            raise ArtulineError(f"unsaved work cannot be kept ({reason(error)})", place=str(folder)) from error
        about = {
            "name": source.name if source else scene.name,
            "source": str(source or ""),
            "when": time.time(),
            "digest": assets.files.get(os.path.realpath(source), "") if source else "",
        }
        save_scene(self.file, scene, assets)
        write_whole(self.file.with_suffix(".json"), lambda p: _put(p, json.dumps(about).encode()))
        if picture is not None:
            write_whole(self.file.with_suffix(".png"), lambda p: _put(p, picture))
        for made in (self.file, self.file.with_suffix(".json"), self.file.with_suffix(".png")):
            with suppress(OSError):
                os.chmod(made, 0o600)

    def forget(self) -> None:
        """Remove what was kept: it is saved, or not wanted. Never fails."""
        remove(self.file)
        if self._lock >= 0:
            with suppress(OSError):
                os.close(self._lock)
            self._lock = -1
        self._stem = f"{os.getpid()}-{secrets.token_hex(6)}"


def _put(path: Path, data: bytes) -> None:
    path.write_bytes(data)


def remove(file: Path) -> None:
    """Remove kept work and what belongs to it. Never fails."""
    for suffix in (".artuline", ".json", ".png", ".lock"):
        with suppress(OSError):
            file.with_suffix(suffix).unlink(missing_ok=True)


def left_behind() -> list[Left]:
    """Work whose program is gone, the newest first. Never fails."""
    found = []
    try:
        # what was killed while it was written is nothing yet: what was kept before it is there
        clear_parts(recovery_folder(), ".", ".artuline")
        files = sorted(p for p in recovery_folder().glob("*.artuline") if not p.name.startswith("."))
    except OSError:
        return []
    for file in files:
        if _held(file.with_suffix(".lock")):
            continue
        name, source, when, picture, known = file.stem, "", 0.0, None, ""
        with suppress(OSError):
            when = file.stat().st_mtime
        with suppress(OSError, ValueError, TypeError, AttributeError):
            about = json.loads(file.with_suffix(".json").read_bytes())
            name, source, when = str(about["name"]), str(about["source"]), float(about["when"])
            known = str(about.get("digest", ""))
        with suppress(OSError):
            picture = file.with_suffix(".png").read_bytes()
        found.append(Left(file, name, source, when, picture, known))
    return sorted(found, key=lambda x: -x.when)


def _held(lock: Path) -> bool:
    """Whether a program that still runs holds a lock."""
    try:
        handle = os.open(lock, os.O_RDWR | os.O_NOFOLLOW)
    except OSError:
        return False
    try:
        fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
        return False
    except OSError:
        return True
    finally:
        os.close(handle)


def recover(left: Left, assets: AssetStore) -> tuple[Scene, tuple[str, ...]]:
    """Read work that was left behind: the scene, and what of it is damaged and therefore missing, a line each.

    Raises ArtulineError if nothing can be read; its file is then put aside, not lost.
    """
    lost: tuple[str, ...] = ()
    try:
        scene = load_scene(left.file, assets, most=MOST_EVER)
    except ArtulineError as error:
        aside = left.file.with_suffix(".damaged")
        with suppress(OSError):
            os.replace(left.file, aside)
            remove(left.file)
        try:
            saved = salvage_scene(aside, MOST_EVER)
        except ArtulineError:
            raise ArtulineError(error.problem, place=str(aside), remedy="It was put aside under this name.") from error
        assets.take_over(saved.assets)
        scene, lost = saved.scene, saved.lost
    if left.source:
        assets.files[os.path.realpath(left.source)] = left.digest
    return scene, lost
