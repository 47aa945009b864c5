"""Settings by their path: every number of a scene can be named, read, changed and compared.

A path is field names joined by dots; an item of a list is chosen in brackets by its id or its index:
``figures[deckhand].groups[group].tone``, ``gravity[1]``, ``substeps``. A lane stands for its value where it has no keys; setting it
takes its keys away. ``tone.keys[0].value`` is one key of it.
"""

import re
from collections.abc import Iterator

from artuline.core.errors import ArtulineError, why_not
from artuline.core.scene.model import Lane, Model, Scene

_STEP = re.compile(r"([A-Za-z_]+)((?:\[[^\]]*\])*)$")


def _steps(path: str) -> list[str | int]:
    steps: list[str | int] = []
    for part in re.split(r"\.(?![^\[]*\])", path.strip()):
        match = _STEP.match(part)
        if match is None:
            raise ArtulineError(f"{path!r} is not a path", remedy="Write it like figures[deckhand].groups[group].tone")
        steps.append(match[1])
        steps += [f"[{key}" for key in re.findall(r"\[([^\]]*)\]", match[2])]
    return steps


def _index(items: tuple[object, ...], key: str, path: str) -> int:
    for i, item in enumerate(items):
        if key in (getattr(item, "id", None), getattr(item, "name", None)):
            return i
    if re.fullmatch(r"-?\d+", key) and -len(items) <= int(key) < len(items):
        return int(key) % len(items)
    names = [str(getattr(x, "id", i)) for i, x in enumerate(items)]
    raise ArtulineError(f"{path!r}: there is no {key!r}", remedy=f"Choose one of: {', '.join(names[:12]) or 'none'}.")


def _child(node: object, step: str | int, path: str) -> object:
    if isinstance(step, str) and step.startswith("["):
        if not isinstance(node, tuple):
            raise ArtulineError(f"{path!r}: {step[1:]!r} is not in a list")
        return node[_index(node, step[1:], path)]
    if not isinstance(node, Model) or step not in type(node).model_fields:
        fields = ", ".join(type(node).model_fields) if isinstance(node, Model) else "nothing"
        raise ArtulineError(f"{path!r}: there is no {step!r} here", remedy=f"There is: {fields}.")
    return getattr(node, str(step))


def get(scene: Scene, path: str) -> float:
    """The number at a path. Raises ArtulineError if there is none."""
    node: object = scene
    for step in _steps(path):
        node = _child(node, step, path)
    if isinstance(node, Lane):
        node = node.keys[0].value if node.keys else node.rest
    if isinstance(node, bool) or not isinstance(node, int | float):
        raise ArtulineError(f"{path!r} is not a number")
    return float(node)


def put(scene: Scene, path: str, value: float) -> Scene:
    """The scene with the number at a path changed. Raises ArtulineError for a wrong path or a value that is not possible."""
    get(scene, path)
    try:
        changed = _put(scene, _steps(path), value, path)
    except ValueError as error:
        raise ArtulineError(f"{path} cannot be {value:g} ({why_not(error)})") from error
    assert isinstance(changed, Scene)
    return changed


def _put(node: object, steps: list[str | int], value: float, path: str) -> object:
    if not steps:
        if isinstance(node, Lane):
            return Lane(rest=value)
        return round(value) if isinstance(node, int) and not isinstance(node, bool) else value
    step = steps[0]
    new = _put(_child(node, step, path), steps[1:], value, path)
    if isinstance(node, tuple):
        i = _index(node, str(step)[1:], path)
        return (*node[:i], new, *node[i + 1 :])
    assert isinstance(node, Model)
    return node.changed(**{str(step): new})


def numbers(node: object, path: str = "") -> Iterator[tuple[str, float]]:
    """All numbers of a scene with their paths; lanes without keys as one number."""
    if isinstance(node, Lane) and not node.keys:
        yield path, node.rest
    elif isinstance(node, Model):
        for name in type(node).model_fields:
            yield from numbers(getattr(node, name), f"{path}.{name}" if path else name)
    elif isinstance(node, tuple):
        for i, item in enumerate(node):
            key = getattr(item, "id", i)
            yield from numbers(item, f"{path}[{key}]")
    elif isinstance(node, int | float) and not isinstance(node, bool):
        yield path, float(node)


_QUIET = ("bones", "clips", "materials", "takes", "layers", "version")


def differences(a: Scene, b: Scene) -> list[tuple[str, str, str]]:
    """What differs between the settings of two scenes: path, value in a, value in b; nothing where they have none."""
    first, second = dict(_plain(a)), dict(_plain(b))
    keys = list(dict.fromkeys([*first, *second]))
    return [(k, first.get(k, ""), second.get(k, "")) for k in keys if first.get(k) != second.get(k)]


def _plain(node: object, path: str = "") -> Iterator[tuple[str, str]]:
    if isinstance(node, Model):
        for name in type(node).model_fields:
            if name not in _QUIET and not (path == "" and name in ("take", "name")):
                yield from _plain(getattr(node, name), f"{path}.{name}" if path else name)
    elif isinstance(node, tuple) and any(isinstance(x, Model) for x in node):
        for i, item in enumerate(node):
            yield from _plain(item, f"{path}[{getattr(item, 'id', i)}]")
    else:
        yield path, _words(node)


def _words(value: object) -> str:
    if isinstance(value, float):
        return f"{value:.6g}"
    if isinstance(value, tuple) and value and all(isinstance(x, float) for x in value):
        return ", ".join(f"{x:.3g}" for x in value)
    return "" if value is None or value == () else str(value)
