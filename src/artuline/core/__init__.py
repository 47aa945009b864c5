"""Computation only: no window, no drawing, no file format."""
