"""The editor of keys."""
