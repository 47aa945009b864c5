"""From a scene to simulated motion: recorded takes and the live tryout."""
