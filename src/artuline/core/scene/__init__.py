"""The document: a tree of frozen models, and the store of its large arrays."""
