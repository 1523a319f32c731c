"""Changes to a mix: small frozen commands, each a mix in and a mix out.

There is no other way to change one.
"""
