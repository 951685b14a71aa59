"""The hosts of accounts as a server's configuration has them: names that are answered alike, together."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from typing import NamedTuple

from kettlepost.core.exchange.observed import NOWHERE as NOWHERE
from kettlepost.core.layout import AccountLayout, Mount, When, stands_for
from kettlepost.core.names import HostName
from kettlepost.core.plan import Domain, Export, PathRule


class Block(NamedTuple):
    """One section of a server: what it is called there, and what it does.

    `root` is None where no folder answers at the host itself, `sends_to` a whole URL. `paths` are the
    path aliases, longest first, each with its folder on the machine. `domain` is declared with what it
    says of passwords, https and fallback, `main` is the name it is called by. `passed_to` is a program
    that answers in place of a folder.
    """

    names: tuple[HostName, ...]
    root: str | None
    sends_to: str
    paths: tuple[tuple[str, str], ...]
    rules: tuple[PathRule, ...]
    domain: Domain
    main: HostName
    passed_to: str = ""


def home_of(layout: AccountLayout, template: Export) -> str:
    """Where an account's folders lie on the machine."""
    return (layout.account.settings.home or template.home.replace("{account}", layout.name)).rstrip("/")


def blocks_of(layout: AccountLayout, when: When, template: Export, secure: Iterable[HostName] = ()) -> Iterator[Block]:
    """The sections of an account, names before wildcards; `secure` are all hosts that are reached by https."""
    home, hosts = home_of(layout, template), layout.tree(when).hosts
    grouped: dict[tuple[object, ...], list[HostName]] = {}
    parts: dict[tuple[object, ...], Block] = {}
    known = frozenset(secure)
    for host in sorted(hosts, key=lambda name: (name.startswith("*"), -name.count(".") if name[0] == "*" else 0)):
        block = _block(layout, host, hosts[host], home, known)
        own = block.domain
        says = (own.https, own.protected, own.fallback, own.php)
        key: tuple[object, ...] = (host[0] == "*", *block[1:5], block.main, block.passed_to, *says)
        grouped.setdefault(key, []).append(host)
        parts.setdefault(key, block)
    for key, names in grouped.items():
        main = parts[key].main
        yield parts[key]._replace(names=tuple(sorted(names, key=lambda name: name != main)))


def _block(layout: AccountLayout, host: HostName, mounts: Sequence[Mount], home: str, secure: frozenset[str]) -> Block:
    base = next((mount for mount in mounts if not mount.address.path), None)
    paths = tuple(
        (f"/{mount.address.path}", f"{home}/{mount.way}".rstrip("/"))
        for mount in mounts
        if mount.address.path and mount.way is not None
    )
    shown = base or mounts[0]
    end = stands_for(layout.account, shown.domain) or shown.domain
    names = {end.name, *end.also, shown.domain.name, *shown.domain.also, HostName(f"www.{end.name}")}
    rules = tuple(rule for rule in layout.account.path_rules if rule.address.host in names)
    goes = base.goes if base is not None else None
    url = f"http{'s' if goes.host in secure else ''}://{goes}" if goes is not None else ""
    root = f"{home}/{base.way}".rstrip("/") if base is not None and base.way is not None else None
    main = end.name if not url else shown.domain.name
    return Block((host,), root, url, paths, rules, shown.domain, main, end.passed_to or "")


def secure_hosts(layouts: Iterable[AccountLayout], when: When) -> Iterator[HostName]:
    """The hosts that are reached by https."""
    for layout in layouts:
        for host, mounts in layout.tree(when).hosts.items():
            if any(mount.domain.https and not mount.address.path for mount in mounts):
                yield host


def php_socket(block: Block, layout: AccountLayout, template: Export) -> str | None:
    """What runs PHP at a host, by the version that its domain or account has; None where nobody says."""
    version = block.domain.php or layout.account.settings.php
    return template.php_sockets.get(version or "")


def named_file(file: str, block: Block, layout: AccountLayout) -> str:
    """A file as [export] names it, with the names of host and account in it."""
    return file.replace("{host}", block.domain.name.removeprefix("*.")).replace("{account}", layout.name)


def log_files(block: Block, layout: AccountLayout, template: Export) -> tuple[str, str]:
    """The files for a host's requests and for its errors; empty where nobody names one."""
    access, errors = (named_file(file or "", block, layout) for file in (template.access_log, template.error_log))
    return access, errors


ACME = "/.well-known/acme-challenge/"
"""The path at which whoever renews certificates asks (RFC 8555 section 8.3)."""


def path_below(rule: PathRule) -> str:
    """The path of a rule, as a server's configuration writes it."""
    return f"/{rule.address.path}"
