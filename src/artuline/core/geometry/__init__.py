"""Rotations, rigid transforms, primitives and their mass properties."""
