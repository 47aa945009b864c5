"""The station Cast."""
