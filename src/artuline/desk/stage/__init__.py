"""The stage: the picture, what is painted over it, and what can be held on it."""
