"""Killing the program at random instants, with real networks in their own processes."""
