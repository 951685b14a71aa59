"""Drawing a list of folders as a tree."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Protocol

from kettlepost.core.names import Folder


class HasFolder(Protocol):
    folder: Folder


def branches(rows: Sequence[HasFolder]) -> list[str]:
    """What to draw before each folder so that the list, sorted as a tree, reads as one."""
    drawn: list[str] = []
    open_at: set[int] = set()  # depths at which a folder still has a sibling below
    for row in reversed(rows):
        depth = row.folder.depth
        bars = "".join("│  " if level in open_at else "   " for level in range(1, depth))
        drawn.append(bars + ("├─ " if depth in open_at else "└─ ") if depth else "")
        open_at = {level for level in open_at if level < depth} | {depth}
    return drawn[::-1]
