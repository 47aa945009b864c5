"""Measurements of the solver against closed forms and against an outside opinion: ``python -m benchmarks``."""
