"""What is or will go wrong, in words, and the fix."""
