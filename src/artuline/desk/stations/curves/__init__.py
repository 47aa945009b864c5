"""The station Curves."""
