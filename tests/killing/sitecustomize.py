"""Kills the process right before its n-th change to the file system, for the tests that set KILL_AT.

With FAIL_AT, that change fails instead, as on a disk that gives up. Zinker says what it is about to change by an
audit event of its own, as those of the system do not tell in which folder something is changed.
"""

import errno
import os
import signal
import sys

_CHANGES = {
    "zinker.disk",
    "os.rename",
    "os.remove",
    "os.mkdir",
    "os.rmdir",
    "os.truncate",
    "os.link",
    "os.chmod",
}
_CHANGES |= {"os.symlink", "sqlite3.connect"}


def kill_at(number, below, is_deadly=True, for_good=False):
    """Count what changes files below a folder; kill, or fail, at change `number`, from 1.

    `for_good`: every later change there fails, too. Returns a list that fills with what has failed.
    """
    left = number
    failed = []

    def hook(event, arguments):
        nonlocal left
        is_write = (
            event == "open" and isinstance(arguments[2], int) and arguments[2] & (os.O_WRONLY | os.O_RDWR)
        )
        if (event in _CHANGES or is_write) and any(below in str(of) for of in arguments[:2]):
            left -= 1
            if left == 0 and is_deadly:
                os.kill(os.getpid(), getattr(signal, "SIGKILL", signal.SIGTERM))  # Windows kills by any
            if left == 0 or (left < 0 and for_good):
                failed.append(event)
                raise OSError(errno.EIO, "made up by a test", str(arguments[-1]))

    sys.addaudithook(hook)
    return failed


for name in ("KILL_AT", "FAIL_AT"):
    if name in os.environ:
        kill_at(int(os.environ[name]), os.environ["KILL_BELOW"], name == "KILL_AT")
