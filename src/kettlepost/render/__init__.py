"""Showing what the core computed: as text for people, as JSON for programs. Computes nothing."""

import importlib
from types import ModuleType


def __getattr__(name: str) -> ModuleType:
    """A module of this package, imported when it is asked for."""
    try:
        return importlib.import_module(f"{__name__}.{name}")
    except ModuleNotFoundError as error:
        if error.name != f"{__name__}.{name}":
            raise
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}") from None
