"""The stations, a room each: none knows another; ``all`` lists them in the order of the work."""
