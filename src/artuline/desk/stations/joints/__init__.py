"""The station Joints."""
