"""Programs in PHP: what they are told stands in them as JSON (RFC 8259), in letters that need no escape in PHP."""

from __future__ import annotations

import json
from typing import Any

from kettlepost.core.quoting.language import Code, one_line


class Php(Code):
    """Text of a program in PHP."""

    __slots__ = ()


_PLACE = "const PLAN = '{}';"


def program(text: str, plan: dict[str, Any]) -> Php:
    """A program that ships with the tool, told what to do in the place that it keeps for that."""
    written = json.dumps(plan, sort_keys=True).replace("\\\\", "\\u005c").replace("'", "\\u0027")
    before, _, behind = text.partition(_PLACE)
    return Php(f"{before}const PLAN = '{written}';{behind}")


def php_string(value: str) -> Php:
    """A string, in single quotes, in which a backslash and a quote alone mean something.

    Raises InputError for one that a line cannot hold.
    """
    return Php("'" + one_line(value, "a line of PHP").replace("\\", "\\\\").replace("'", "\\'") + "'")
