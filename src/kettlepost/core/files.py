"""Reading a file that may be larger than it should be."""

from __future__ import annotations

import os
from pathlib import Path


def read_at_most(path: Path, most: int) -> bytes:
    """What `path` holds, or its first `most` bytes and one more. Raises OSError.

    Memory is asked for by the file's size, not by `most`.
    """
    with open(path, "rb", buffering=0) as file:
        size = os.fstat(file.fileno()).st_size
        parts = [file.read(min(size, most) + 1)]
        while parts[-1] and sum(map(len, parts)) <= most and (size == 0 or len(parts[0]) > size):
            parts.append(file.read(1 << 16))  # it grew, or is a pipe that has no size
    return parts[0] if len(parts) == 1 else b"".join(parts)[: most + 1]
