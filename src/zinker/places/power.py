"""What this machine runs on."""

import contextlib


def is_on_battery() -> bool:
    """Tell whether this machine runs on its battery, as far as is known."""
    with contextlib.suppress(ImportError, OSError, AttributeError, NotImplementedError):
        import psutil

        battery = psutil.sensors_battery()  # type: ignore[no-untyped-call,unused-ignore]
        return battery is not None and battery.power_plugged is False
    return False
