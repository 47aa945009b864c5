"""The station Props."""
