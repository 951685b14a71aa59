"""What a control file says that a site still needs once it lies elsewhere: who is let in, and what runs PHP."""

from __future__ import annotations

from kettlepost.core.webserver.directives import logical_lines, split_first

_LETTING_IN = frozenset(("require", "satisfy", "order", "allow", "deny"))
_RUNNING = frozenset(("addhandler", "sethandler", "addtype", "action", "fcgidwrapper", "fcgiwrapper"))


def carried_lines(text: str) -> list[tuple[int, str]]:
    """The lines of an `.htaccess` that let in some visitors only or choose PHP, each with its number.

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
    return name in _LETTING_IN or name.startswith("auth") or (name in _RUNNING and "php" in rest.lower())
