"""The timeline and its rows."""
