"""The addresses of an account that people may know: its hosts, folders, files, installations and promises."""

from __future__ import annotations

from collections.abc import Iterator
from urllib.parse import quote

from kettlepost.core.layout import AccountLayout, Mount, When
from kettlepost.core.names import Folder

_UNENCODED = "/~!$&'()*+,;=:@-._"


def known_addresses(layout: AccountLayout, when: When) -> Iterator[str]:
    """Every address that is known of at one time, as it is asked for; some more than once.

    These are hosts, the folders and files that were surveyed below them, installations with the addresses at which they
    are looked after and that they answer without a folder, and what visitors are sent on from.
    """
    for host, mounts in layout.tree(when).hosts.items():
        if host.startswith("*."):
            continue
        for mount in mounts:
            yield _written(f"{mount.address}", "/")
            if mount.folder is not None:
                yield from _below(layout, mount)
    for installation in layout.account.installations:
        base = _written(f"{installation.address}", "/")
        known = layout.application(installation)
        yield base
        if known.admin:
            yield base + quote(known.admin.lstrip("/"), safe=_UNENCODED + "?")
        yield from (f"{base}{quote(segment, safe=_UNENCODED)}" for segment in known.segments)
    for rule in layout.account.path_rules:
        yield _written(f"{rule.address}")


def _below(layout: AccountLayout, mount: Mount) -> Iterator[str]:
    """The folders and files below a mount, as far as a survey has them."""
    contents, names, root = layout.contents, layout.file_names, mount.folder
    if contents is None or root is None:
        return
    begin = _written(f"{mount.address}", "/")
    for folder in _folders(layout, layout.real(root)):
        way = folder.relative_to(layout.real(root))
        place = begin + (quote(way, safe=_UNENCODED, errors="surrogateescape") + "/" if way else "")
        if way:
            yield place
        for name in sorted(names.of(folder)) if names is not None else contents.folders[folder].index:
            yield place + quote(name, safe=_UNENCODED, errors="surrogateescape")


def _folders(layout: AccountLayout, root: Folder) -> Iterator[Folder]:
    """The surveyed folders that are a root or lie in it, but for what no server shows."""
    contents = layout.contents
    if contents is None:
        return
    for name in map(Folder, [root, *contents.inside(root)]):
        if name in contents.folders and not any(part.startswith(".") for part in name.relative_to(root).split("/")):
            yield name


def _written(address: str, ends: str = "") -> str:
    """An address as it is asked for, a folder with its slash."""
    host, _, path = address.rstrip("/").partition("/")
    return f"{host}/{quote(path, safe=_UNENCODED, errors='surrogateescape')}".rstrip("/") + (ends if path else "/")
