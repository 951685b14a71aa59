"""Reading a file that may be larger than it should be."""

from __future__ import annotations

import os
from pathlib import Path


def read_at_most(path: str | Path, most: int) -> bytes:
    """What `path` holds, or its first `most` bytes and one more. Raises OSError.

    Memory is asked for by the file's size, not by `most`.
    """
    file = os.open(path, os.O_RDONLY | os.O_CLOEXEC)
    try:
        size = os.fstat(file).st_size
        first = os.read(file, min(size, most) + 1)
        if len(first) == size and size:
            return first
        parts = [first]  # it changed while it was read, is larger than it may be, or is a pipe that has no size
        while parts[-1] and sum(map(len, parts)) <= most:
            parts.append(os.read(file, 1 << 16))
        return b"".join(parts)[: most + 1]
    finally:
        os.close(file)
