"""Listening: what is heard, through what, and what the meters say of it.

Nothing here reaches a render.
"""
