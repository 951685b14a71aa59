"""Where a path of a host leads on the machine: path aliases, folders of users and of names, the document root
(mod_alias, mod_userdir, mod_vhost_alias)."""

from __future__ import annotations

import posixpath
import re
from typing import NamedTuple

from kettlepost.core.webserver.host_sections import AliasLine, PassLine
from kettlepost.core.webserver.patterns import search
from kettlepost.core.webserver.settings import SourceLine
from kettlepost.core.webserver.virtual_hosts import HostSetup


class Place(NamedTuple):
    """A path of the machine, the part of it that the server's configuration names, and the line that does so.

    `prefix` is the path of the host that leads to `base`, `handler` what runs what lies there; `is_folder` is
    whether a slash ends the path as it was made.
    """

    path: str
    base: str
    prefix: str = ""
    handler: str = ""
    source_line: SourceLine | None = None
    is_folder: bool = False


def place_at(made: str, base: str | None = None, prefix: str = "", alias: AliasLine | None = None) -> Place:
    """The place of a path as a line or a rule made it, below `base` or by itself."""
    path = posixpath.normpath(made)
    runs, line = (alias.runs, alias.source_line) if alias is not None else ("", None)
    return Place(path, path if base is None else posixpath.normpath(base), prefix, runs, line, made.endswith("/"))


def place_of(setup: HostSetup, uri: str, host: str, home: str) -> Place | None:
    """Where a path leads; None where nothing is told. Raises PatternTrouble."""
    for alias in setup.aliases:
        if alias.match.is_pattern:
            groups = search(alias.match.path, uri)
            target = filled(alias.target, groups) if groups is not None else None
            if target is not None:
                return place_at(target, alias=alias)
            continue
        rest = rest_of(uri, alias.match.path)
        if rest is not None:
            is_below = rest[:1] in ("", "/") or alias.target.endswith("/")
            base = alias.target if is_below else None
            return place_at(alias.target + rest, base, alias.match.path.rstrip("/"), alias)
    user = re.fullmatch(r"/~([^/]+)(/.*)?", uri)
    folder = setup.user_folder(user[1]) if user is not None else None
    if user is not None and folder is not None:
        return _of_user(folder, user[1], user[2] or "", home)
    pattern = setup.virtual_root
    if pattern is not None:
        root = interpolated(pattern, host)
        if root is None:
            return None
        return place_at(root + uri, root)
    root = setup.document_root
    return place_at(root + uri, root) if root.startswith("/") else None


def _of_user(pattern: str, user: str, rest: str, home: str) -> Place:
    """The folder of a user: below the home, or where a star stands for the name."""
    if "*" in pattern:
        root = pattern.replace("*", user)
    elif pattern.startswith("/"):
        root = f"{pattern.rstrip('/')}/{user}"
    else:
        own = home if home.rpartition("/")[2] == user else f"/home/{user}"
        root = f"{own}/{pattern}"
    return place_at(root + rest, root, f"/~{user}")


def passed_by(setup: HostSetup, uri: str) -> tuple[PassLine, str] | None:
    """The line that hands a path to another program, and the whole target; None where none does.

    Raises PatternTrouble.
    """
    own = [line for section in setup.paths if section.passes and section.match.covers_path(uri)
           for line in section.passes]  # fmt: skip
    for line in (*own[-1:], *setup.passes):
        if line in own:
            rest = rest_of(uri, line.match.path) if not line.match.is_pattern else ""
        elif line.match.is_pattern:
            groups = search(line.match.path, uri)
            if groups is None:
                continue
            if line.target == "!":
                return None
            return line, filled(line.target, groups) if "$" in line.target else line.target + uri
        else:
            rest = rest_of(uri, line.match.path)
        if rest is None:
            continue
        if line.target == "!":
            return None
        return line, line.target + rest
    return None


def program_file(target: str) -> str | None:
    """The file of the machine that a target has a FastCGI program run; None where it names none."""
    match = re.match(r"(?:unix:[^|]*\|)?fcgi://[^/]*(/.*)", target)
    return posixpath.normpath(match[1].partition("?")[0]) if match is not None else None


def rest_of(uri: str, path: str) -> str | None:
    """What is left of a path behind another that it begins with, as segments; None where it does not."""
    if not uri.startswith(path):
        return None
    rest = uri[len(path) :]
    return rest if path.endswith("/") or rest[:1] in ("", "/") else None


def filled(target: str, groups: tuple[str, ...]) -> str:
    """A target with the groups of a pattern filled in."""

    def value(match: re.Match[str]) -> str:
        if match[1] is not None:
            return match[1]
        number = int(match[2]) if match[2] is not None else 0
        return groups[number] if number < len(groups) else ""

    return re.sub(r"\\(.)|\$(\d)|&", value, target)


def interpolated(pattern: str, name: str) -> str | None:
    """The folder of a host by a pattern of mod_vhost_alias: `%0` is its name, `%1` its first label, `%-1` its last."""
    labels = name.split(".")

    def part(match: re.Match[str]) -> str:
        number, plus = int(match[1]), match[2]
        if number == 0:
            return name
        at = number - 1 if number > 0 else len(labels) + number
        if not 0 <= at < len(labels):
            return "_"
        if plus:
            return ".".join(labels[at:] if number > 0 else labels[: at + 1])
        return labels[at]

    if re.search(r"%(?:p|-?\d+\+?\.)", pattern):
        return None  # ports, and parts of labels
    return re.sub(r"%(-?\d+)(\+?)", part, pattern.replace("%%", "%25")).replace("%25", "%")
