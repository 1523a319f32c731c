"""The one kind of error that is meant for the person at the desk."""


class InputError(ValueError):
    """Says in one plain sentence what is wrong with what was given, and what to do."""
