"""From a take to keys."""
