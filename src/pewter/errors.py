"""The errors that reach a user, by what the user can do about them.

What a peer does wrong is never one of these: it is evidence.
"""


class PewterError(Exception):
    """The root: its text is one or two lines for the user and names the mend."""

    exit_status = 2


class UsageError(PewterError):
    """An option or a target that cannot be understood."""


class FileError(PewterError):
    """A file that cannot be read, or that holds something else than was asked for."""


class OutputError(PewterError):
    """Standard output that cannot be written."""


OWN_FAULT = 4
"""Exit status where Pewter itself failed: never that of a finding."""


def own_fault_words(what: str) -> str:
    """One line that asks for a report."""
    return f"Pewter itself failed ({what}). This is no finding: please report it, with the command that you typed."


class NotReviewedError(PewterError):
    """The site could not be reviewed at all."""

    exit_status = 3
