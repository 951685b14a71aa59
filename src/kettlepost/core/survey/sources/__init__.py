"""Places an account's folders can be looked at, one module each."""

from __future__ import annotations

from pathlib import Path

from kettlepost.core.survey.sources.interface import HEAD, Listing, Source, Wanted
from kettlepost.core.survey.sources.local import LocalFolder

__all__ = ["HEAD", "Listing", "LocalFolder", "Source", "Wanted", "open_source"]


def open_source(written: str) -> Source:
    """The source that `written` names. Raises InputError when it is none."""
    return LocalFolder.open(Path(written))
