"""Spaces that are made: a room, what stands in it, and how it answers."""
