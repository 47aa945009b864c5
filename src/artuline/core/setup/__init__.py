"""From a skinned figure to bodies, joints and limits."""
