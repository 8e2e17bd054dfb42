"""The errors a user can meet: each says what, why and what to do next, and carries its exit code."""

import errno


class ZinkerError(Exception):
    """Something Zinker did not do, or could not do.

    `what` says what did not happen, `why` gives the reason, `then` says what to do next.
    """

    exit_code = 4

    def __init__(self, what: str, why: str = "", then: str = "") -> None:
        super().__init__(what, why, then)
        self.what, self.why, self.then = what, why, then

    def __str__(self) -> str:
        head = f"{self.what}: {self.why}" if self.why else self.what
        return f"{head}\n{self.then}" if self.then else head


class WrongUsage(ZinkerError):
    """The command was given something that means nothing: an unknown subject, part, place or reference."""

    exit_code = 2


class Refused(ZinkerError):
    """Zinker would not do it; nothing was changed."""

    exit_code = 3


class NoAnswer(Refused):
    """A place does not answer, or lets nobody in."""


class Failed(ZinkerError):
    """It was begun, it failed, and what had been done was taken back."""

    exit_code = 4


class Damaged(ZinkerError):
    """A profile or a shelf is damaged, hostile, or written by a newer Zinker."""

    exit_code = 5


class DocumentError(Exception):
    """The bytes of a document do not follow its format; such a document is carried whole and reported."""


class NotWritable(Exception):
    """One setting cannot be written into its document; `address` names it."""

    def __init__(self, address: str, why: str) -> None:
        super().__init__(address, why)
        self.address, self.why = address, why

    def __str__(self) -> str:
        return self.why


_REASONS = {
    errno.ENOSPC: "the disk is full",
    errno.EDQUOT: "the disk quota is used up",
    errno.EROFS: "the disk is read-only",
    errno.EACCES: "no right to do that there",
    errno.EPERM: "no right to do that there",
    errno.ENOENT: "it does not exist",
    errno.ENOTDIR: "something on the way there is not a folder",
    errno.EISDIR: "it is a folder, not a file",
    errno.ELOOP: "it is a link that leads in a circle",
    errno.ENAMETOOLONG: "its name is too long for this disk",
    errno.EFBIG: "the file would be larger than allowed",
    errno.EIO: "the disk reports an error",
    errno.EBUSY: "another program holds it",
    errno.ETXTBSY: "another program holds it",
}


# What Windows tells apart and C does not (winerror.h).
_WINDOWS_REASONS = {
    19: "the disk is read-only",
    21: "the disk is not there",
    32: "another program holds it open",
    33: "another program holds it open",
    206: "its name is too long for this disk",
    1920: "it cannot be reached",
}


def reason(error: OSError) -> str:
    """Say in plain words why the operating system refused something.

    >>> reason(OSError(errno.ENOSPC, "No space left on device"))
    'the disk is full'
    """
    why = getattr(error, "why", "")
    if why:
        return str(why)
    if getattr(error, "winerror", None) in _WINDOWS_REASONS:
        return _WINDOWS_REASONS[error.winerror]  # type: ignore[attr-defined,unused-ignore]
    if error.errno in _REASONS:
        return _REASONS[error.errno]
    return (error.strerror or str(error) or type(error).__name__).lower()


# What can be done about a reason.
_REMEDIES = {
    "the disk is full": "Make room there",
    "the disk quota is used up": "Make room there",
    "the disk is read-only": "Let it be written to",
    "the disk is not there": "Plug it in",
    "no right to do that there": "Ask for that right",
    "another program holds it": "Close that program",
    "another program holds it open": "Close that program",
}


def remedy(error: OSError) -> str:
    """Say what to do about what the operating system refused, as the beginning of a sentence.

    >>> remedy(OSError(errno.ENOSPC, "No space left on device"))
    'Make room there'
    """
    return _REMEDIES.get(reason(error), "Put that right")
