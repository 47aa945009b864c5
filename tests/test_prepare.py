"""Compiling ahead: the order of Numba's rules changes how fast types are found, and nothing else."""

import itertools
import operator
import os
import shutil
import subprocess
import sys
from pathlib import Path

import pytest
from numba import types
from numba.core.errors import TypingError
from numba.core.registry import cpu_target

from artuline.core.run.prepare import ask_plain_rules_first

NUMBERS = types.float64, types.int64, types.boolean, types.int32, types.uint8, types.literal(2)
BINARY = "add sub mul truediv floordiv mod pow lt le gt ge and_ or_ xor lshift rshift iadd isub imul itruediv"


def rules(name):
    """What is asked for an operator: with Numba's own order, and with the plain rules first."""
    ask_plain_rules_first()
    context = cpu_target.typing_context
    context.refresh()
    now = context.resolve_value_type(getattr(operator, name))
    general = tuple(t for t in now.templates if t.metadata.get("target") != "cpu")
    assert len(general) < len(now.templates)
    return context, types.Function(general), now


def found(function, context, arguments):
    try:
        signature = function.get_call_type(context, arguments, {})
    except TypingError:
        return None
    return signature.return_type, signature.args


@pytest.mark.parametrize("name", BINARY.split())
def test_numbers_have_the_same_types(name):
    context, usual, now = rules(name)
    for pair in itertools.product(NUMBERS, repeat=2):
        assert found(now, context, pair) == found(usual, context, pair)


@pytest.mark.parametrize("name", ["getitem", "setitem"])
def test_items_of_arrays_have_the_same_types(name):
    context, usual, now = rules(name)
    record = types.Record.make_c_struct([("x", types.float64)])
    arrays = [types.Array(t, n, "C") for t in (types.float64, types.int64, record) for n in (1, 2, 3)]
    places = types.int64, types.literal(0), types.slice2_type, types.UniTuple(types.int64, 2), types.none
    values = [(types.float64,), (types.int64,), (record,)] if name == "setitem" else [()]
    some = 0
    for array, place, value in itertools.product(arrays, places, values):
        expected = found(usual, context, (array, place, *value))
        assert found(now, context, (array, place, *value)) == expected
        some += expected is not None
    assert some > 20


def test_kernels_of_sources_in_another_place_or_of_another_time_are_not_taken_for_ready(tmp_path):
    """Numba finds what it compiled by where the sources are and when they were changed; a mark that knows less would say ready when nothing is there."""
    from artuline.core import kernel_cache

    core = Path(kernel_cache.__file__).parent
    copied = shutil.copytree(core, tmp_path / "core")
    for source in kernel_cache.kernel_sources():
        shutil.copystat(source, copied / source.relative_to(core))
    ask = (
        "import importlib.util as u, sys; s = u.spec_from_file_location('p', sys.argv[1]); m = u.module_from_spec(s);"
        "s.loader.exec_module(m); print(m.cache_folder())"
    )

    def folder() -> str:
        return subprocess.run(
            [sys.executable, "-c", ask, str(copied / "kernel_cache.py")],
            capture_output=True,
            text=True,
            check=True,
        ).stdout

    first = folder()
    assert first == folder() and first.strip() != kernel_cache.cache_folder()
    for source in ("bake/fit_kernels.py", "geometry/winding.py"):
        before = folder()
        os.utime(copied / source, (1.0, 1.0))
        assert folder() != before
