"""Opening a USD stage that reads nothing outside of its file's folder."""

import os
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

from artuline.core.errors import ArtulineError

MOST_LAYERS = 500

Fail = Callable[[str], ArtulineError]


def open_stage(path: Path, fail: Fail) -> Any:
    """The stage of a file. Raises ArtulineError for what is no USD, or refers to files outside of its folder."""
    from pxr import Tf, Usd

    _stay_inside(path, fail)
    try:
        stage = Usd.Stage.Open(str(path))
    except Tf.ErrorException as error:
        raise fail("the file is no USD that can be read") from error
    if not stage:
        raise fail("the file is no USD that can be read")
    return stage


def _stay_inside(path: Path, fail: Fail) -> None:
    """Raises ArtulineError if a layer, or one that it brings, lies outside of the file's folder, links followed."""
    from pxr import Sdf, Tf

    root = os.path.realpath(path.parent)
    todo, seen = [os.path.realpath(path)], set[str]()
    while todo:
        at = todo.pop()
        if at in seen or not os.path.isfile(at):
            continue
        seen.add(at)
        if len(seen) > MOST_LAYERS:
            raise fail(f"it is made of more than {MOST_LAYERS} files")
        try:
            layer = Sdf.Layer.FindOrOpen(at)
        except Tf.ErrorException:
            layer = None
        if not layer:
            continue
        for address in _addresses(layer):
            name = Sdf.Layer.SplitIdentifier(address)[0]
            inside = os.path.realpath(os.path.join(os.path.dirname(at), name))
            if "://" in name or "\0" in name or os.path.isabs(name) or os.path.commonpath([root, inside]) != root:
                raise fail(f"it refers to {name[:80]!r}, which does not lie beside the file")
            todo.append(inside)


def _addresses(layer: Any) -> Iterator[str]:
    """All files that a layer is composed of: sublayers, references, payloads, and the files of clips of values."""
    from pxr import Sdf

    yield from (x for x in layer.GetCompositionAssetDependencies() if x)
    found: list[Any] = []

    def look(where: Any) -> None:
        spec = layer.GetObjectAtPath(where)
        if isinstance(spec, Sdf.PrimSpec):
            found.extend(spec.GetInfo(key) for key in ("clips", "clipAssetPaths") if spec.HasInfo(key))

    layer.Traverse(Sdf.Path.absoluteRootPath, look)
    while found:
        item = found.pop()
        if isinstance(item, dict):
            # names of clips and their numbers are no addresses
            found += [v for k, v in item.items() if isinstance(v, dict) or "sset" in str(k)]
        elif isinstance(item, Sdf.AssetPath):
            yield item.path
        elif isinstance(item, str):
            yield item
        elif hasattr(item, "__iter__"):
            found += list(item)
