"""Demo scenes: a small coastal ferry."""
