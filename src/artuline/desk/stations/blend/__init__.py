"""The station Blend."""
