"""Errors that are meant for the person at the desk, and those that callers branch on."""


class InputError(ValueError):
    """Says in one plain sentence what is wrong with what was given, and what to do."""


class Vanished(InputError):
    """What an edit is about is no longer in the mix."""


class OutOfRange(InputError):
    """A value lies outside what its field takes."""


class StaleEdit(InputError):
    """Somebody else changed the same thing since it was last shown here."""


def sentence_case(text: str) -> str:
    """A text with its first letter large, as a sentence begins."""
    return text[0].upper() + text[1:]
