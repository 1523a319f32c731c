"""Errors that are meant for the person at the desk, and those that callers branch on."""

import errno

DISK_FULL = "The disk is full; nothing was lost. Make room on it, then try again."
_FULL = (errno.ENOSPC, errno.EDQUOT)
_FULL_OF_A_DATABASE = "53100"  # SQLSTATE disk_full


class InputError(ValueError):
    """Says in one plain sentence what is wrong with what was given, and what to do."""


class Vanished(InputError):
    """What an edit is about is no longer in the mix."""


class OutOfRange(InputError):
    """A value lies outside what its field takes."""


class MachineBusy(InputError):
    """The machine had no time or room for what was asked; asked again later it may go well."""


class StaleEdit(InputError):
    """Somebody else changed the same thing since it was last shown here."""


def disk_is_full(error: BaseException | None) -> bool:
    """Whether an error, or one that it came of, says that a disk is full."""
    while error is not None:
        if getattr(error, "errno", None) in _FULL:
            return True
        if getattr(error, "sqlstate", None) == _FULL_OF_A_DATABASE:
            return True
        error = error.__cause__ or error.__context__
    return False


def sentence_case(text: str) -> str:
    """A text with its first letter large, as a sentence begins."""
    return text[0].upper() + text[1:]
