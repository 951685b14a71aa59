"""What is told of many small plans and of the demo is what was written down; `make told` writes it down anew."""

from __future__ import annotations

from pathlib import Path

import pytest

from kettlepost.core.rules import rules
from tell import TOLD, pages

NAMES = [*(rule.slug for rule in rules()), "demo", "changes"]


@pytest.fixture(scope="module")
def told(tmp_path_factory: pytest.TempPathFactory) -> dict[str, str]:
    return dict(pages(tmp_path_factory.mktemp("told")))


@pytest.mark.parametrize("name", NAMES)
def test_what_is_told_is_what_was_written_down(told: dict[str, str], name: str) -> None:
    assert told[name] == (Path(TOLD) / f"{name}.txt").read_text("utf-8"), "read what changed; then: make told"


def test_nothing_else_is_written_down() -> None:
    assert sorted(path.stem for path in TOLD.glob("*.txt")) == sorted(NAMES)
