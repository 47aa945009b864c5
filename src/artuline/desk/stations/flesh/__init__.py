"""Flesh: bones that are added to a skeleton, their weights, and how they wobble."""
