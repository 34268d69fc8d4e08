"""The two roots of all errors that a person can do something about."""


class DirektError(Exception):
    """Its text is one clear line: what is wrong, where, and what to do next."""


class UnusableInput(DirektError):
    """Wrong use, or a file that cannot be used."""


class NoAnswer(DirektError):
    """A device, server or network that does not answer or refuses."""
