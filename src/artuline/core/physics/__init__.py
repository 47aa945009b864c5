"""The solver: rigid bodies, joints and contacts in small substeps."""
