"""Where Zinker keeps what is its own."""

import os
from pathlib import Path


def own_folder() -> Path:
    """Return the folder: what `ZINKER_HOME` says, or the system's place for such data."""
    own = os.environ.get("ZINKER_HOME")
    if own:
        return Path(own)
    from platformdirs import user_data_path

    return user_data_path("zinker", appauthor=False)
