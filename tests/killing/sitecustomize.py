"""Kills the process right before its n-th change to the file system, for the tests that set KILL_AT."""

import os
import signal
import sys

_CHANGES = {"os.rename", "os.remove", "os.mkdir", "os.rmdir", "os.truncate", "os.link", "os.chmod"}


def kill_at(number, below):
    """Count what changes files below a folder; kill before change `number`, from 1."""
    left = number

    def hook(event, arguments):
        nonlocal left
        is_write = (
            event == "open" and isinstance(arguments[2], int) and arguments[2] & (os.O_WRONLY | os.O_RDWR)
        )
        if (event in _CHANGES or is_write) and below in str(arguments[0]):
            left -= 1
            if left == 0:
                os.kill(os.getpid(), signal.SIGKILL)

    sys.addaudithook(hook)


if "KILL_AT" in os.environ:
    kill_at(int(os.environ["KILL_AT"]), os.environ["KILL_BELOW"])
