"""Strands: ropes, cables, tails and beads."""
