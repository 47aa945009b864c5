"""Soft parts: pieces of skin divided into clusters."""
