"""The session of whoever this program runs for, when it was started by a timer."""

import os
from pathlib import Path


def join_session() -> None:
    """Find the user's own message bus, over which the keyring answers; cron's jobs are not told of it.

    It is where systemd puts it (pam_systemd(8)).
    """
    if os.name != "posix" or "DBUS_SESSION_BUS_ADDRESS" in os.environ:
        return
    bus = Path(f"/run/user/{os.getuid()}/bus")
    if bus.exists():
        os.environ["DBUS_SESSION_BUS_ADDRESS"] = f"unix:path={bus}"
