"""The station Bodies."""
