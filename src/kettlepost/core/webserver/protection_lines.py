"""What a control file says that a site still needs once it lies elsewhere: who may see what, and what runs PHP."""

from __future__ import annotations

import re

from kettlepost.core.webserver.directives import logical_lines, split_first

_LETTING_IN = frozenset(("require", "satisfy", "order", "allow", "deny"))
_RUNNING = frozenset(("addhandler", "sethandler", "addtype", "action", "fcgidwrapper", "fcgiwrapper"))


_DENYING_FLAG = re.compile(r"(?:f|forbidden|g|gone|(?:r|redirect)=4\d\d)(?:=|$)", re.IGNORECASE)
_DENYING_STATUS = re.compile(r"(?:4\d\d|gone)(?:\s|$)", re.IGNORECASE)


def is_protecting(written: str) -> bool:
    """Whether a line of an `.htaccess` keeps somebody out of something, or chooses PHP, in a section or outside."""
    name, rest = split_first(written)
    name = name.lower()
    if name in _RUNNING:
        return "php" in rest.lower()
    if name == "require":
        return rest.strip().lower() != "all granted"
    return name in ("authtype", "deny") or denies_by_path(written)


def denies_by_path(written: str) -> bool:
    """Whether a rewrite or a redirect refuses some paths: what it means counts on where its file lies."""
    name, rest = split_first(written)
    name = name.lower()
    if name == "rewriterule":
        flags = re.search(r"\[([^\[\]]*)\]\s*$", rest)
        return flags is not None and any(_DENYING_FLAG.match(flag.strip()) for flag in flags[1].split(","))
    return name in ("redirect", "redirectmatch") and _DENYING_STATUS.match(rest.strip()) is not None


def carried_lines(text: str) -> list[tuple[int, str]]:
    """The lines of an `.htaccess` that let in some visitors only, list no folder or choose PHP, each with its number.

    A section around them comes along, without what else is in it; one that is not closed does not.
    """
    levels: list[list[tuple[int, str]]] = [[]]
    for line, written in logical_lines(text):
        if written.startswith("</"):
            inner = levels.pop() if len(levels) > 1 else []
            if len(inner) > 1:
                levels[-1] += [*inner, (line, written)]
        elif written.startswith("<"):
            levels.append([(line, written)])
        elif _is_carried(written):
            levels[-1].append((line, written))
    return levels[0]


def _is_carried(written: str) -> bool:
    name, rest = split_first(written)
    name = name.lower()
    if name == "options":
        return "-indexes" in rest.lower()
    return name in _LETTING_IN or name.startswith("auth") or (name in _RUNNING and "php" in rest.lower())
