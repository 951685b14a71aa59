"""The gate that every text passes on its way out, whoever's it is.

No control or direction character gets through to a terminal or a file. What cannot be shown stands as
`\\xNN`, one for each byte of its UTF-8 form, as `core.names.printable` writes it; what was written
so before stays as it is. What is written in a language passes `core.quoting` as well.
"""

from __future__ import annotations

from kettlepost.core.quoting import lines as lines
from kettlepost.core.quoting import plain as plain
from kettlepost.core.secrets import masked


def message(text: str) -> str:
    """What is said on standard error: lines in which nothing that looks like a secret is left either."""
    return lines(masked(text))


def data(value: object) -> object:
    """A value made of lists, dictionaries and plain values, each text of it as `plain` has it."""
    if isinstance(value, str):
        return plain(value)
    if isinstance(value, dict):
        return {plain(str(key)): data(item) for key, item in value.items()}
    if isinstance(value, list | tuple):
        return list(map(data, value))
    return value
