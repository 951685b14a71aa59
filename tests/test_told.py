"""What is told of many small plans and of the demo is what was written down; `make told` writes it down anew."""

from __future__ import annotations

from pathlib import Path

import pytest

from tell import NAMES, TOLD, page


@pytest.mark.parametrize("name", NAMES)
def test_what_is_told_is_what_was_written_down(tmp_path: Path, name: str) -> None:
    told = page(name, tmp_path / "told")
    assert told == (TOLD / f"{name}.txt").read_text("utf-8"), "read what changed; then: make told"


def test_nothing_else_is_written_down() -> None:
    assert sorted(path.stem for path in TOLD.glob("*.txt")) == sorted(NAMES)
