"""Runs the measurements and prints a table: ``python -m benchmarks [words of their names]``."""

import sys

from benchmarks import (
    accuracy,
    contradictions,
    curves,
    edits_after,
    flesh,
    lanes,
    loads,
    orders,
    outside,
    piles,
    seams,
    soft,
    speed,
    steering,
    strands,
    truths,
    window,
)


def main() -> int:
    wanted = [w.lower() for w in sys.argv[1:]]
    failed = 0
    for module in (
        accuracy,
        truths,
        strands,
        loads,
        lanes,
        contradictions,
        seams,
        orders,
        curves,
        edits_after,
        flesh,
        soft,
        steering,
        speed,
        outside,
        piles,
        window,
    ):
        for name, measure in module.MEASUREMENTS.items():
            if wanted and not any(w in name.lower() for w in wanted):
                continue
            for what, value, bound, ok in measure():
                failed += not ok
                print(f"{'ok  ' if ok else 'MISS'}  {name}: {what:<46} {value:>16}   wanted {bound}", flush=True)
    return 1 if failed else 0


sys.exit(main())
