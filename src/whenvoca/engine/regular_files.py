"""Reading files that somebody else names: only regular ones, since a pipe or a device may never end."""

from __future__ import annotations

import errno
from pathlib import Path


def read_regular(path: Path) -> bytes:
    """The whole file. Raises OSError; at once for a pipe, a device or a socket, which would be waited for."""
    if path.exists() and not path.is_file() and not path.is_dir():
        raise OSError(errno.EINVAL, "it is a pipe, a device or a socket, and a file is wanted here")
    return path.read_bytes()
