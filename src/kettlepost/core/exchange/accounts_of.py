"""Which account each host of a source belongs to: by what is named, by homes, by folders, by whom it runs as."""

from __future__ import annotations

import posixpath
import re
from collections import Counter
from collections.abc import Iterable, Sequence
from typing import NamedTuple

from kettlepost.core.errors import InputError
from kettlepost.core.exchange.observed import ImportRemark, SeenHost
from kettlepost.core.messages import say
from kettlepost.core.names import HostName
from kettlepost.core.plan import Account, below_home

PUBLIC = ("public_html", "htdocs", "html", "public", "www", "web", "docroot", "httpd")
"""What folders are called that the web server shows."""
_USERS_HOME = re.compile(r"((?:/usr)?/home\d*/([A-Za-z_][\w.-]*))(?:/|$)")
"""The home of a user, as the Filesystem Hierarchy Standard (3.8) and hier(7) have it."""
_NO_USERS = frozenset(
    (*PUBLIC, "clients", "customers", "data", "domains", "hosting", "sites", "users", "vhosts", "virtual", "webs")
)
"""What folders below `/home` are called that hold the homes of several."""
_HOST = re.compile(r"[a-z0-9-]+(\.[a-z0-9-]+)+", re.IGNORECASE)


class Owner(NamedTuple):
    """An account and its home; `is_new` where the plan has none of that name."""

    name: str
    home: str | None
    is_new: bool


class Assigned(NamedTuple):
    """The hosts of each account, those left without one, and the folder below which accounts were guessed."""

    hosts: dict[Owner, list[SeenHost]]
    left: list[ImportRemark]
    guessed: str


def account_name(written: str) -> str:
    """A name that an account can have, made of whatever a source calls it."""
    return re.sub(r"[^a-z0-9_-]+", "-", written.lower()).strip("-_")[:64]


def homes_pattern(pattern: str) -> re.Pattern[str]:
    """A pattern such as `/srv/hosting/{account}` as an expression that finds home and account in a folder."""
    if "{account}" not in pattern or not pattern.startswith("/"):
        raise InputError(f"--homes {pattern!r} is to be written such as '/srv/hosting/{{account}}'")
    before, _, behind = re.escape(pattern.rstrip("/")).replace(r"\*", "[^/]+").partition(re.escape("{account}"))
    return re.compile(rf"({before}([^/]+){behind})(?:/|$)")


def assigned(
    hosts: Sequence[SeenHost], accounts: Sequence[Account], account: str | None = None, homes: str | None = None
) -> Assigned:
    """Give each host to its account.

    First counts what the source or `account` names, then the homes of the plan's accounts, then `homes`,
    then whom a host or its PHP runs as, then the homes of users, then whose the files are, and last the folders alone.
    What only sends visitors on goes with where it sends them, or with the domain above it.
    """
    known = {one.name: Owner(one.name, one.settings.home, False) for one in accounts}
    by_home = sorted((one for one in known.values() if one.home), key=lambda owner: len(owner.home or ""), reverse=True)
    pattern = homes_pattern(homes) if homes is not None else None
    declared = {name: known[one.name] for one in accounts for name in _names_of(one)}
    homes_named = _homes_of_named(hosts, account)
    found: dict[int, Owner] = {}
    unsure: list[SeenHost] = []
    for host in hosts:
        owner = _told(host, account, known, by_home, pattern, declared, homes_named)
        if owner is not None:
            found[id(host)] = owner
        else:
            unsure.append(host)
    guessed = _guess([host for host in unsure if host.folder is not None], found, known)
    owners = _by_name(hosts, found, declared)
    left = []
    for host in unsure:
        owner = found.get(id(host)) or _beside(host, owners)
        if owner is None:
            means = say("import/account-untold/means")
            left.append(ImportRemark(host.spot, say("import/account-untold", host=host.name), means))
        else:
            found[id(host)] = owner
    grouped: dict[Owner, list[SeenHost]] = {}
    for host in hosts:
        if id(host) in found:
            grouped.setdefault(known[found[id(host)].name], []).append(host)
    return Assigned(grouped, left, guessed)


def _names_of(account: Account) -> Iterable[HostName]:
    return (name for domain in account.domains for name in (domain.name, *domain.also))


def _told(
    host: SeenHost, account: str | None, known: dict[str, Owner], by_home: list[Owner],
    pattern: re.Pattern[str] | None, declared: dict[HostName, Owner], homes_named: dict[str, str],
) -> Owner | None:  # fmt: skip
    named = account if account is not None else account_name(host.account)
    folder = host.folder or ""
    if named:
        return _with_home(known, named, homes_named.get(named))
    if host.folder is not None:
        owner = next((one for one in by_home if below_home(folder, one.home) is not None), None)
        match = pattern.match(folder) if owner is None and pattern is not None else None
        if match is not None:
            name = account_name(match[2])
            return _with_home(known, name, match[1])
        if owner is not None:
            return owner
        runs_as = _runs_as(host)
        if runs_as:
            return _with_home(known, runs_as, homes_named.get(runs_as))
        users = _USERS_HOME.match(folder)
        if users is not None and users[2] not in _NO_USERS and not _HOST.fullmatch(users[2]):
            return _with_home(known, account_name(users[2]), users[1])
    there, owns = declared.get(host.name), _owner_of_files(host)
    return _with_home(known, owns, homes_named.get(owns)) if there is None and owns else there


def _with_home(known: dict[str, Owner], name: str, home: str | None) -> Owner:
    """An account by its name, new where there is none, with the home that it was found to have where it names none."""
    owner = known.get(name, Owner(name, home, True))
    known[name] = owner if owner.home else owner._replace(home=home)
    return known[name]


def _runs_as(host: SeenHost) -> str:
    """Whom the programs of a host run as, as is said of it, or by PHP's socket where a folder has that name too."""
    if host.user and host.user not in ("www-data", "apache", "nobody", "http", "nginx", "root"):
        return account_name(host.user)
    return account_name(host.pool) if host.pool and host.pool in (host.folder or "").split("/") else ""


def _owner_of_files(host: SeenHost) -> str:
    return account_name(host.file_owner[0]) if host.file_owner is not None else ""


def _homes_of_named(hosts: Iterable[SeenHost], account: str | None) -> dict[str, str]:
    """The home of each account that is named: its user's, the folder with its name, or the nearest above its roots."""
    folders: dict[str, list[str]] = {}
    of_users: dict[str, str] = {}
    for host in hosts:
        name = account if account is not None else account_name(host.account) or _runs_as(host) or _owner_of_files(host)
        if name and (host.folder or "").startswith("/"):
            folders.setdefault(name, []).append(host.folder or "")
            if host.file_owner is not None:
                of_users[name] = host.file_owner[1]
    found = {}
    for name, roots in folders.items():
        if (own := of_users.get(name)) and all(below_home(root, own) is not None for root in roots):
            found[name] = own
            continue
        common = posixpath.commonpath(roots)
        parts = common.split("/")
        home = "/".join(parts[: parts.index(name) + 1]) if name in parts else _above_roots(common, roots)
        if home != "/":
            found[name] = home
    return found


def _above_roots(home: str, roots: Sequence[str]) -> str:
    """The nearest folder above what a web server shows."""
    while home.count("/") > 1 and (home in roots or (home.rpartition("/")[2] in PUBLIC and home.count("/") > 2)):
        home = posixpath.dirname(home)
    return home


def _guess(hosts: list[SeenHost], found: dict[int, Owner], known: dict[str, Owner]) -> str:
    """Accounts by the folders themselves: each folder below the one that all have in common is a home.

    Folders that are called like hosts, or like what a web server shows, are no homes but sites of one account.
    """
    folders = [host.folder or "" for host in hosts if (host.folder or "").startswith("/")]
    if not folders:
        return ""
    common = posixpath.commonpath(folders)
    below = Counter(folder[len(common) :].strip("/").partition("/")[0] for folder in folders)
    apart = len(below) > 1 and not any(not part or part in PUBLIC or _HOST.fullmatch(part) for part in below)
    home = common if apart else _above_roots(common, folders)
    if home == "/":
        return ""
    for host in hosts:
        folder = host.folder or ""
        if not folder.startswith("/"):
            continue
        place = f"{common.rstrip('/')}/{folder[len(common) :].strip('/').partition('/')[0]}" if apart else home
        name = account_name(place.rpartition("/")[2])
        if name:
            found[id(host)] = known.setdefault(name, Owner(name, place, True))
    return common if apart else ""


def _by_name(
    hosts: Iterable[SeenHost], found: dict[int, Owner], declared: dict[HostName, Owner]
) -> dict[HostName, Owner]:
    owners = dict(declared)
    for host in hosts:
        if id(host) in found:
            owners |= dict.fromkeys((host.name, *host.names), found[id(host)])
    return owners


def _beside(host: SeenHost, owners: dict[HostName, Owner]) -> Owner | None:
    """The account of what it sends visitors on to, of a domain above it, or of its form with or without www."""
    bare = HostName(host.name.removeprefix("www."))
    near = [bare, HostName(f"www.{bare}"), *host.name.above()]
    if host.sends_to is not None:
        near.append(host.sends_to.host)
        near += host.sends_to.host.above()
    return next((owners[name] for name in near if name in owners and "." in name), None)
