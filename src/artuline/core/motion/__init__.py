"""Keyed motion: skeletons, poses, clips, layers."""
