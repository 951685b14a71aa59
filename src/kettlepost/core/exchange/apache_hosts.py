"""The hosts of an Apache HTTP Server: names, folders, where they send visitors on to, whom they let in."""

from __future__ import annotations

import posixpath
import re
from bisect import bisect_left
from collections.abc import Iterable, Iterator, Mapping
from itertools import takewhile
from typing import NamedTuple

from kettlepost.core.exchange.apache_config import ApacheNode
from kettlepost.core.exchange.observed import (
    KEPT,
    ImportRemark,
    SeenHost,
    SeenPath,
    SourceSpot,
    address_in,
    host_in,
    php_pool,
)
from kettlepost.core.messages import say
from kettlepost.core.names import Address, HostName
from kettlepost.core.secrets import without_password
from kettlepost.core.webserver.mapping import interpolated
from kettlepost.core.webserver.patterns import PatternTrouble, search

_TO_HTTPS = re.compile(r"https://%\{(?:http_host|server_name)\}(?:%\{request_uri\}|/?\$[01])?", re.IGNORECASE)
_WHOLE = re.compile(r"https?://([^%$\s\"{}]+?)(?:%\{REQUEST_URI\}|/?\$[01]|/)?(?:\?%\{QUERY_STRING\})?", re.IGNORECASE)
_ALL = (
    "^",
    "^/",
    "^.*$",
    ".*",
    "(.*)",
    "^(.*)",
    "^(.*)$",
    "^/?(.*)$",
    "^/(.*)$",
    "^/?(.*)",
    "^/(.*)",
    "^/.*$",
    ".",
    "/",
)
_SENDING = ("redirect", "redirectpermanent", "redirecttemp")
_STATUSES = ("permanent", "temp", "seeother")


class _Access(NamedTuple):
    """Whom a folder or an address lets in, by a section of the server."""

    place: str
    does: str
    spot: SourceSpot


class ServerHosts:
    """What is written outside of virtual hosts holds in all of them."""

    def __init__(self, items: list[ApacheNode], remarks: list[ImportRemark]):
        self._items = items
        self._remarks = remarks
        self._outside = [item for item in items if item.name != "virtualhost"]
        self._folders = _access(self._outside, "directory")
        self._sorted = sorted(self._folders)
        self._readers = {
            **dict.fromkeys(_SENDING, self._redirect),
            **dict.fromkeys(("proxypass", "proxypassmatch"), self._proxy),
            "redirectmatch": self._redirect_match,
        }

    def hosts(self) -> Iterator[SeenHost]:
        for item in self._items:
            if item.name == "virtualhost":
                yield from self._hosts_of(item, item.inner)
        if any(item.name == "servername" for item in self._outside) and any(
            item.name == "documentroot" for item in self._outside
        ):
            yield from self._hosts_of(self._outside[0], self._outside, by_itself=True)

    def reserved(self) -> list[SeenPath]:
        """The paths that are mapped for all hosts at once; what else is done for all of them is remarked."""
        found = []
        for item in self._outside:
            words = item.words
            if item.name == "userdir" and self.user_folder() is not None:
                continue
            if item.name in ("alias", "scriptalias") and len(words) == 2 and words[0].strip("/"):
                found.append(SeenPath(words[0], "folder", words[1], item.spot))
            elif item.name in (*_SENDING, "redirectmatch", "proxypass", "proxypassmatch", "rewriterule", *_NOT_TAKEN):
                self._remarks.append(ImportRemark(item.spot, f"{item.name} {item.text}", KEPT))
            elif (
                item.name == "location"
                and words
                and any(inner.name in ("sethandler", "proxypass") for inner in item.inner)
            ):
                found.append(SeenPath(words[0], "folder", "", item.spot))
        return found

    def user_folder(self) -> SeenPath | None:
        """The folder in each home that `/~name` leads to, with the host at which it is reached, where that is told."""
        names = [item.words[0] for item in self._outside if item.name == "servername" and item.words]
        host = host_in(names[-1], self._outside[0].spot, []) if names else None
        said = [item for item in self._outside if item.name == "userdir" and len(item.words) == 1]
        folder = said[-1].text.strip() if said else "disabled"
        if host is None or "." not in host or folder.lower() == "disabled" or folder[:1] in "/*" or "://" in folder:
            return None
        return SeenPath(str(host), "folder", folder, said[-1].spot)

    def _hosts_of(self, section: ApacheNode, inner: list[ApacheNode], by_itself: bool = False) -> Iterator[SeenHost]:
        said: dict[str, list[ApacheNode]] = {}
        for item in inner:
            said.setdefault(item.name, []).append(item)
        spot = said["servername"][-1].spot if "servername" in said else section.spot
        written = [(item.words[0], item.spot) for item in said.get("servername", ())[-1:] if item.words]
        written += [(word, item.spot) for item in said.get("serveralias", ()) for word in item.words]
        names = [name for word, at in written if (name := self._name(word, at)) is not None]
        if not names:
            if "servername" not in said and not by_itself:
                means = say("import/host-of-others/means")
                self._remarks.append(
                    ImportRemark(section.spot, say("import/host-without-name/apache", addresses=section.text), means)
                )
            return
        host = SeenHost(names[0], spot, server="apache")
        host.names = list(dict.fromkeys(name for name in names[1:] if name != host.name))
        ports = {word.rpartition(":")[2] for word in ([] if by_itself else section.words)}
        engine = [item.text.strip().lower() for item in said.get("sslengine", ())]
        host.is_secure = engine[-1:] == ["on"] or ("443" in ports and engine[-1:] != ["off"])
        if said.get("documentroot"):
            host.folder = _folder(said["documentroot"][-1])
        host.certificate = next((_folder(item) for item in said.get("sslcertificatefile", ())), "")
        host.user = next((item.words[0] for name in ("suexecusergroup", "assignuserid") for item in said.get(name, ())
                          if item.words), "")  # fmt: skip
        host.pool = php_pool(inner)
        host.index = tuple(word for item in said.get("directoryindex", ()) for word in item.words)
        self._read_paths(host, inner)
        self._read_access(host, inner)
        yield from self._by_name(host, said)

    def _by_name(self, host: SeenHost, said: dict[str, list[ApacheNode]]) -> Iterator[SeenHost]:
        """A host for each of its names, where its folder is made of the name."""
        virtual = said.get("virtualdocumentroot")
        if not virtual:
            yield host
            return
        pattern = _folder(virtual[-1])
        for name in (host.name, *host.names):
            folder = interpolated(pattern, name)
            if name.startswith("*.") or folder is None:
                means = say("import/names-untold/means", pattern=pattern)
                self._remarks.append(ImportRemark(virtual[-1].spot, say("import/names-untold", name=name), means))
                continue
            yield SeenHost(
                name, host.spot, folder, is_secure=host.is_secure, asks_password=host.asks_password, user=host.user,
                server="apache", certificate=host.certificate,
            )  # fmt: skip

    def _name(self, word: str, spot: SourceSpot) -> HostName | None:
        if "?" in word or "*" in word.removeprefix("*."):
            self._remarks.append(ImportRemark(spot, say("import/wildcard", word=word), say("import/wildcard/means")))
            return None
        return host_in(word, spot, self._remarks)

    def _read_paths(self, host: SeenHost, inner: list[ApacheNode]) -> None:
        is_rewriting = False
        conditions: list[ApacheNode] = []
        for item in inner:
            words = item.words
            if item.name == "userdir" and self.user_folder() is not None:
                continue
            if item.name in ("alias", "scriptalias") and len(words) == 2:
                host.paths.append(SeenPath(words[0], "folder", words[1].rstrip("/"), item.spot))
            elif item.name in self._readers:
                self._readers[item.name](host, item, words)
            elif item.name == "rewriteengine":
                is_rewriting = item.text.strip().lower() == "on"
            elif item.name == "rewritecond":
                conditions.append(item)
            elif item.name == "rewriterule":
                if is_rewriting:
                    self._rewrite(host, item, words, conditions)
                conditions = []
            elif item.name in _NOT_TAKEN:
                self._remarks.append(ImportRemark(item.spot, f"{_TITLES[item.name]} {item.text}", KEPT))

    def _redirect(self, host: SeenHost, item: ApacheNode, words: list[str]) -> None:
        if words and (words[0].lower() in _STATUSES or words[0].isdigit()):
            words = words[1:]
        target = address_in(words[1]) if len(words) == 2 and "://" in words[1] else None
        if target is None:
            self._remarks.append(ImportRemark(item.spot, f"{item.name} {item.text}", KEPT))
        elif words[0] == "/":
            self._send(host, target, words[1])
        else:
            host.paths.append(SeenPath(words[0].rstrip("/"), "redirect", words[1], item.spot))

    def _redirect_match(self, host: SeenHost, item: ApacheNode, words: list[str]) -> None:
        if words and (words[0].lower() in _STATUSES or words[0].isdigit()):
            words = words[1:]
        whole = _WHOLE.fullmatch(words[1]) if len(words) == 2 and words[0] in _ALL else None
        target = address_in(whole[1]) if whole is not None else None
        if target is None:
            self._remarks.append(ImportRemark(item.spot, f"RedirectMatch {item.text}", KEPT))
        else:
            self._send(host, target, words[1])
            self._tell_path(item, "RedirectMatch", words[1], words[0])

    def _tell_path(self, item: ApacheNode, name: str, target: str, pattern: str) -> None:
        """Remark a redirect of all paths to one page."""
        if not (target.endswith("%{REQUEST_URI}") or (target[-2:] in ("$0", "$1") and pattern[-1:] in ")$*+")):
            self._remarks.append(ImportRemark(item.spot, f"{name} {item.text}", KEPT))

    def _send(self, host: SeenHost, target: Address, written: str) -> None:
        """Note where all visitors are sent on to; where that is the same by https, nothing else is meant."""
        if target == Address(host.name):
            host.to_https = written[:6].lower() == "https:" or host.to_https
            host.onward = list(host.names)
        else:
            host.sends_to = target

    def _rewrite(self, host: SeenHost, item: ApacheNode, words: list[str], conditions: list[ApacheNode]) -> None:
        flags = (
            {flag.partition("=")[0].strip().upper() for flag in words[2].strip("[]").split(",")}
            if len(words) > 2
            else set()
        )
        target = words[1] if len(words) > 1 else "-"
        sends = bool(flags & {"R", "REDIRECT"}) or "://" in target
        if sends and words[0] in _ALL:
            asked = [" ".join(condition.words[:2]).lower() for condition in conditions]
            asked = [one for one in asked if not re.match(r"%\{request_uri\} !\^/\\?\.well-known", one)]
            only_itself = all(
                re.match(r"%\{(?:https|server_port|request_scheme|http:x-forwarded-proto)\}", one)
                or one.startswith(
                    ("%{server_name} =", "%{request_uri} !^/.well-known", "%{request_uri} !^/\\.well-known")
                )
                or (one.startswith("%{http_host}") and str(host.name) in one.replace("\\", ""))
                for one in asked
            )
            if only_itself and _TO_HTTPS.fullmatch(target):
                host.to_https = True
                return
            whole = _WHOLE.fullmatch(target)
            onward = address_in(whole[1]) if whole is not None else None
            if onward is not None and (not asked or (only_itself and onward.host == host.name)):
                self._send(host, onward, target)
                self._tell_path(item, "RewriteRule", target, words[0])
                return
            if self._sends_names(host, target, conditions):
                return
        if target == "-" and not flags & {"F", "G", "R", "FORBIDDEN", "GONE", "REDIRECT"}:
            return
        self._remarks.append(ImportRemark(item.spot, f"RewriteRule {item.text}", KEPT))

    def _sends_names(self, host: SeenHost, target: str, conditions: list[ApacheNode]) -> bool:
        """Whether some names of a host are sent on to another of its names; if so, that is noted."""
        names = [host.name, *host.names]
        sent = [name for name in names if name[0] != "*" and all(_fits(one, name) for one in conditions)]
        if not conditions or not sent:
            return False
        if "%{HTTP_HOST}" in target and len(sent) == 1:
            target = target.replace("%{HTTP_HOST}", sent[0])
        whole = _WHOLE.fullmatch(target)
        onward = address_in(whole[1]) if whole is not None else None
        if onward is None or onward != Address(onward.host) or onward.host not in names or onward.host in sent:
            return False
        host.name, host.names = onward.host, [name for name in names if name != onward.host]
        host.onward = sent
        return True

    def _proxy(self, host: SeenHost, item: ApacheNode, words: list[str]) -> None:
        if len(words) < 2 or words[1] == "!" or words[1].startswith(("fcgi:", "unix:")) or "|fcgi:" in words[1]:
            return
        if words[0] in ("/", *_ALL):
            host.elsewhere = without_password(words[1])
        else:
            self._remarks.append(ImportRemark(item.spot, f"ProxyPass {item.text}", KEPT))

    def _read_access(self, host: SeenHost, inner: list[ApacheNode]) -> None:
        root, own = (host.folder or "").rstrip("/"), _access(inner, "directory")
        found = _nearest(root, own, self._folders) if root else None
        if found is not None and found.does == "password":
            host.asks_password = True
        elif found is not None and found.does == "denied":
            self._tell_denied(host, found.spot)
        at = bisect_left(self._sorted, f"{root}/")
        below = takewhile(lambda place: place.startswith(f"{root}/"), self._sorted[at:] if root else ())
        for one in (*(self._folders[place] for place in below), *own.values()):
            if one.does != "open" and root and one.place.startswith(f"{root}/"):
                host.paths.append(SeenPath(one.place[len(root) :].rstrip("/"), one.does, "", one.spot))  # type: ignore[arg-type]
        self._read_locations(host, inner)

    def _tell_denied(self, host: SeenHost, spot: SourceSpot) -> None:
        self._remarks.append(ImportRemark(spot, say("import/lets-nobody-in", host=host.name), KEPT))

    def _read_locations(self, host: SeenHost, inner: list[ApacheNode]) -> None:
        for place, does, spot in _access(inner, "location").values():
            if does == "open":
                continue
            if place in ("", "/"):
                host.asks_password = host.asks_password or does == "password"
                if does == "denied":
                    self._tell_denied(host, spot)
            else:
                host.paths.append(SeenPath(place.rstrip("/"), does, "", spot))  # type: ignore[arg-type]


def _fits(condition: ApacheNode, name: HostName) -> bool:
    """Whether a condition on the host asked for holds for a name; False for any other condition."""
    words = condition.words
    if len(words) < 2 or words[0].upper() not in ("%{HTTP_HOST}", "%{SERVER_NAME}") or "OR" in condition.text.upper():
        return False
    pattern, is_not = words[1].removeprefix("!"), words[1][0] == "!"
    if pattern[:1] in "=<>-":
        return (pattern[1:].strip('"').lower() == name) != is_not if pattern[:1] == "=" else False
    try:
        return (search(pattern, name, "NC" in " ".join(words[2:]).upper()) is not None) != is_not
    except PatternTrouble:
        return False


_NOT_TAKEN = frozenset(("aliasmatch", "scriptaliasmatch", "fallbackresource", "userdir"))
_TITLES = {
    "aliasmatch": "AliasMatch", "scriptaliasmatch": "ScriptAliasMatch", "fallbackresource": "FallbackResource",
    "userdir": "UserDir",
}  # fmt: skip


def _folder(item: ApacheNode) -> str:
    words = item.words
    return posixpath.normpath(words[0]) if words and words[0].startswith("/") else (words or [""])[0]


def _access(items: Iterable[ApacheNode], kind: str) -> dict[str, _Access]:
    """Whom folders or addresses let in, by sections of one kind, by their places without a slash at the end."""
    found = {}
    for item in items:
        if item.name != kind or not item.words or item.words[0] == "~":
            continue
        place = item.words[0]
        required = [" ".join(inner.words).lower() for inner in _within(item.inner) if inner.name == "require"]
        older = [inner.text.lower().split() for inner in item.inner if inner.name in ("deny", "allow")]
        asks = any(inner.name == "authtype" and inner.text.strip().lower() != "none" for inner in item.inner)
        if asks and any(asked.startswith(("valid-user", "user ", "group ")) for asked in required):
            does = "password"
        elif "all denied" in required or older == [["from", "all"]]:
            does = "denied" if any(i.name in ("require", "deny") for i in item.inner) else "open"
        elif "all granted" in required or older:
            does = "open"
        else:
            continue
        found[place.rstrip("/")] = _Access(place, does, item.spot)
    return found


def _nearest(folder: str, *several: Mapping[str, _Access]) -> _Access | None:
    """What is said of a folder, or of the nearest above it; of the first where several say it of the same."""
    while True:
        for entries in several:
            if folder in entries:
                return entries[folder]
        if not folder:
            return None
        folder = folder.rpartition("/")[0]


def _within(items: Iterable[ApacheNode]) -> Iterator[ApacheNode]:
    for item in items:
        yield item
        if item.name.startswith("require"):
            yield from _within(item.inner)
