"""Artuline: ragdolls for animators, from a skinned figure to editable keys."""

__version__ = "0.1.0"
