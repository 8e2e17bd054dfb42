"""Has a command give up soon on a line that is gone, and on dead runs, for tests that play both many times."""

import os
import runpy
from pathlib import Path

from zinker.shelf import lease, object_storage

object_storage._TRIES = 1
lease.LEASE, lease._BEAT = 1.0, 0.2
if "KILL_AT" in os.environ:
    runpy.run_path(str(Path(__file__).parents[1] / "killing/sitecustomize.py"))
