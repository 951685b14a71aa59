"""Where a text names an address: as a link, in JSON, percent-encoded, or as a path from the root of its host; or a path
of the machine."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import NamedTuple
from urllib.parse import quote

from kettlepost.core.names import Address, readable

_SLASH = r"(?:/|\\+/|%2F)"
_SCHEME = rf"(?:https?(?::|%3A))?{_SLASH}{{2}}"
_END = r"(?![\w-]|\.\w)"
"""What does not follow an address: more of its last name, so that `/new` is neither in `/newsletter` nor `/new.css`."""
_LONGEST = 200


class Mention(NamedTuple):
    """Where a file names an address: the line, counted from 1, and how it is written there."""

    line: int
    written: str


class Mentioned:
    """Finds an address, under its host's name with and without `www.`, or as a path where it has one.

    A host alone counts only behind a scheme or `//`, as everybody writes it in words, too. What begins with a slash is
    a path of the machine, such as the home of an account.
    """

    def __init__(self, address: Address | str):
        if not isinstance(address, Address):
            self._pattern = re.compile(rf"(?<![\w./-]){_path(address)}{_END}")
            return
        bare = str(address.host).removeprefix("www.")
        names = sorted({bare, readable(bare)}, key=len, reverse=True)
        host = rf"(?:www\.)?(?:{'|'.join(map(re.escape, names))})"
        path = _path(address.path)
        if path:
            forms = [rf"(?:{_SCHEME}|(?<![\w.@-])){host}(?::\d+)?{path}{_END}", rf"(?<=[\"'=(\s,>]){path}{_END}"]
        else:
            forms = [rf"{_SCHEME}{host}(?::\d+)?{_END}"]
        self._pattern = re.compile("|".join(forms), re.IGNORECASE)

    def within(self, text: str) -> Iterator[Mention]:
        """Every line that names the address, each once."""
        for number, line in enumerate(text.split("\n"), 1):
            found = self._pattern.search(line)
            if found is not None:
                yield Mention(number, found[0][:_LONGEST])


def _path(path: str) -> str:
    parts = [part for part in path.split("/") if part]
    return "".join(f"{_SLASH}(?:{'|'.join(_written(part))})" for part in parts)


def _written(part: str) -> list[str]:
    """The ways in which one name of a path is written."""
    return list(dict.fromkeys((re.escape(part), re.escape(quote(part)))))
