"""Virtual hosts of the Apache HTTP Server 2.4, as distributions lay them out and people write them."""

from __future__ import annotations

import posixpath
import re
from collections.abc import Iterable, Iterator, Sequence
from typing import NamedTuple

from kettlepost.core.exchange.blocks import NOWHERE, Block, blocks_of, home_of, path_below, secure_hosts, writable
from kettlepost.core.exchange.observed import (
    DEEPEST,
    LARGEST,
    MOST_FILES,
    Opener,
    Part,
    Reading,
    Remark,
    SeenHost,
    SeenPath,
    Spot,
    address_in,
    host_in,
    joined,
)
from kettlepost.core.layout import AccountLayout, When
from kettlepost.core.names import Address, HostName
from kettlepost.core.plan import Export
from kettlepost.core.webserver import Directive, Section, read_directives
from kettlepost.core.webserver.directives import split_words
from kettlepost.core.webserver.sections import holds

_LOOKS = re.compile(
    r"^[ \t]*(?:</?(?:virtualhost|directory|directorymatch|location|locationmatch|files|filesmatch|ifmodule|ifdefine|"
    r"ifversion|macro|proxy|limit)\b|(?:servername|serveralias|documentroot|serverroot|loadmodule|listen|include|"
    r"includeoptional|alias|scriptalias|redirect|rewriteengine|rewriterule|allowoverride|options|require|setenv|setenvif|"
    r"adddefaultcharset|addtype|addhandler|errordocument|customlog|errorlog|header|directoryindex|use|define)[ \t]+\S)",
    re.IGNORECASE | re.MULTILINE,
)
_OTHERS = re.compile(
    r"^[ \t]*[a-z_]+[ \t][^#\n<>]*;[ \t]*(?:#.*)?$|^[ \t]*(?:server|http|events|location\s[^<>\n]*)\s*\{", re.MULTILINE
)
_VARIABLE = re.compile(r"\$\{([^}:]+)\}")
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
_MOST_ITEMS = 5_000_000
_GRANTS = ("granted",)


class Item(NamedTuple):
    """A directive or section, with included files, macros and variables put in."""

    name: str
    text: str
    spot: Spot
    inner: list[Item]

    @property
    def words(self) -> list[str]:
        return split_words(self.text)


def is_it(raw: bytes) -> bool:
    """Whether a file is of this kind, by what is in it."""
    text = raw[:200_000].decode("utf-8", "replace")
    return bool(_LOOKS.search(text)) and not _OTHERS.search(text)


def read(files: Sequence[tuple[str, bytes]], opener: Opener, root: str = "") -> Reading:
    """The hosts of some files and of all that they include; `root` is the server's own folder where none says."""
    found = Reading()
    expanded = _Expansion(opener, root, found.remarks)
    items = [item for name, raw in files for item in expanded.file(name, raw)]
    server = _Server(items, found.remarks)
    found.hosts = joined(server.hosts())
    found.reserved = server.reserved()
    found.files = expanded.files
    return found


class _Expansion:
    """Puts in what files include, what macros stand for, and the values of variables."""

    def __init__(self, opener: Opener, root: str, remarks: list[Remark]):
        self._opener = opener
        self._root = root
        self._remarks = remarks
        self._defined: dict[str, str] = {}
        self._macros: dict[str, tuple[list[str], tuple[Directive | Section, ...]]] = {}
        self._open: list[str] = []
        self._files = self._items = 0
        self.files: list[str] = []

    def file(self, name: str, raw: bytes) -> Iterator[Item]:
        if len(raw) > LARGEST:
            self._remarks.append(Remark(Spot(name, 0), f"larger than {LARGEST >> 20} MiB", "nothing of it is read"))
            return
        nodes, fault = read_directives(raw.decode("utf-8", "replace"))
        if fault is not None:
            self._remarks.append(
                Remark(
                    Spot(name, fault.line), fault.text, "the server refuses to start with it; what follows is not read"
                )
            )
        self._open.append(name)
        self.files.append(name)
        try:
            yield from self._expanded(nodes, name, 0)
        finally:
            self._open.pop()

    def _expanded(
        self, nodes: Iterable[Directive | Section], file: str, depth: int, at: Spot | None = None
    ) -> Iterator[Item]:
        """The lines with what they stand for; those of a macro are told where it is used, `at`."""
        for node in nodes:
            self._items += 1
            if self._items > _MOST_ITEMS:
                if self._items == _MOST_ITEMS + 1:
                    self._remarks.append(Remark(Spot(file, node.line), "too much to read", "what follows is not read"))
                return
            spot, name = at or Spot(file, node.line), node.name
            if isinstance(node, Section):
                yield from self._section(node, spot, depth, at)
                continue
            text = self._filled(node.text) if "${" in node.text else node.text
            if name in ("include", "includeoptional"):
                yield from self._included(text, spot, name == "include")
            elif name == "define":
                words = split_words(text)
                if words:
                    self._defined[words[0]] = words[1] if len(words) > 1 else ""
            elif name == "undefine":
                self._defined.pop(text.strip(), None)
            elif name == "serverroot":
                self._root = (split_words(text) or [self._root])[0]
            elif name == "use":
                yield from self._used(text, spot, depth)
            else:
                yield Item(name, text, spot, [])

    def _section(self, node: Section, spot: Spot, depth: int, at: Spot | None) -> Iterator[Item]:
        if node.name == "macro":
            words = node.words
            if words:
                self._macros[words[0].lower()] = (words[1:], node.inner)
            return
        if node.name in ("ifdefine", "ifmodule", "ifversion", "iffile", "ifdirective", "ifsection"):
            known = holds(node)
            if node.name == "ifdefine":
                asked = node.text.strip()
                known = (asked.lstrip("!").strip() in self._defined) != asked.startswith("!")
            elif known is None:  # what a server has is not told by its files: what asks for it is taken to hold
                known = not node.text.strip().startswith("!")
            if known:
                yield from self._expanded(node.inner, spot.file, depth, at)
            return
        text = self._filled(node.text) if "${" in node.text else node.text
        yield Item(node.name, text, spot, list(self._expanded(node.inner, spot.file, depth, at)))

    def _filled(self, text: str) -> str:
        return _VARIABLE.sub(lambda match: self._defined.get(match[1], match[0]), text)

    def _used(self, text: str, spot: Spot, depth: int) -> Iterator[Item]:
        words = split_words(text)
        known = self._macros.get(words[0].lower()) if words else None
        if known is None or depth > DEEPEST:
            self._remarks.append(Remark(spot, f"Use {text}: no macro of that name", "the hosts it makes are not read"))
            return
        names, nodes = known
        values = sorted(zip(names, words[1:], strict=False), key=lambda pair: -len(pair[0]))
        yield from self._expanded([_replaced(node, values) for node in nodes], spot.file, depth + 1, spot)

    def _included(self, text: str, spot: Spot, wanted: bool) -> Iterator[Item]:
        pattern = (split_words(text) or [""])[0]
        if not pattern.startswith("/"):
            pattern = posixpath.join(self._root, pattern)
        found = self._opener.matching(pattern)
        if wanted and not found and not any(sign in pattern for sign in "*?["):
            self._remarks.append(Remark(spot, f"Include {text}: not there", "what it holds is not read"))
        for name in found:
            self._files += 1
            if name in self._open or len(self._open) > DEEPEST or self._files > MOST_FILES:
                why = "includes itself" if name in self._open else "includes too much"
                self._remarks.append(Remark(spot, f"Include {text}: {why}", "it is not read again"))
                return
            raw = self._opener.read(name)
            if raw is None:
                self._remarks.append(Remark(spot, f"{name}: cannot be read", "what it holds is not read"))
                continue
            yield from self.file(name, raw)


def _replaced(node: Directive | Section, values: list[tuple[str, str]]) -> Directive | Section:
    """A line of a macro with its parameters put in."""
    text = node.text
    for name, value in values:
        text = text.replace(name, value)
    if isinstance(node, Directive):
        return Directive(node.name, text, node.line)
    return Section(node.name, text, node.line, tuple(_replaced(inner, values) for inner in node.inner))


class _Access(NamedTuple):
    """Whom a folder or an address lets in, by a section of the server."""

    place: str
    does: str
    spot: Spot


class _Server:
    """What is written outside of virtual hosts holds in all of them."""

    def __init__(self, items: list[Item], remarks: list[Remark]):
        self._items = items
        self._remarks = remarks
        self._outside = [item for item in items if item.name != "virtualhost"]
        self._folders = _access(self._outside, "directory")

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
            if item.name in ("alias", "scriptalias") and len(words) == 2 and words[0].strip("/"):
                found.append(SeenPath(words[0], "folder", words[1], item.spot))
            elif item.name in (*_SENDING, "redirectmatch", "proxypass", "proxypassmatch", "rewriterule", *_NOT_TAKEN):
                means = "it is for every host of the server, and not in the plan"
                self._remarks.append(Remark(item.spot, f"{item.name} {item.text}", means))
            elif (
                item.name == "location"
                and words
                and any(inner.name in ("sethandler", "proxypass") for inner in item.inner)
            ):
                found.append(SeenPath(words[0], "folder", "", item.spot))
        return found

    def _hosts_of(self, section: Item, inner: list[Item], by_itself: bool = False) -> Iterator[SeenHost]:
        said: dict[str, list[Item]] = {}
        for item in inner:
            said.setdefault(item.name, []).append(item)
        spot = said["servername"][-1].spot if "servername" in said else section.spot
        written = [(item.words[0], item.spot) for item in said.get("servername", ())[-1:] if item.words]
        written += [(word, item.spot) for item in said.get("serveralias", ()) for word in item.words]
        names = [name for word, at in written if (name := self._name(word, at)) is not None]
        if not names:
            if "servername" not in said and not by_itself:
                means = "it answers for names that no other host has; no domain can be made of it"
                self._remarks.append(Remark(section.spot, f"<VirtualHost {section.text}> without ServerName", means))
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
        self._read_paths(host, inner)
        self._read_access(host, inner)
        yield from self._by_name(host, said)

    def _by_name(self, host: SeenHost, said: dict[str, list[Item]]) -> Iterator[SeenHost]:
        """A host for each of its names, where its folder is made of the name."""
        virtual = said.get("virtualdocumentroot")
        if not virtual:
            yield host
            return
        pattern = _folder(virtual[-1])
        for name in (host.name, *host.names):
            folder = interpolated(pattern, name)
            if name.startswith("*.") or folder is None:
                means = f"which names it answers for is not written there; their folders are {pattern}"
                self._remarks.append(Remark(virtual[-1].spot, f"VirtualDocumentRoot for {name}", means))
                continue
            yield SeenHost(
                name, host.spot, folder, is_secure=host.is_secure, asks_password=host.asks_password, user=host.user,
                server="apache", certificate=host.certificate,
            )  # fmt: skip

    def _name(self, word: str, spot: Spot) -> HostName | None:
        if "?" in word or "*" in word.removeprefix("*."):
            self._remarks.append(Remark(spot, f"{word} stands for many names", "name those that are used"))
            return None
        return host_in(word, spot, self._remarks)

    def _read_paths(self, host: SeenHost, inner: list[Item]) -> None:
        is_rewriting = False
        conditions: list[Item] = []
        for item in inner:
            words = item.words
            if item.name in ("alias", "scriptalias") and len(words) == 2:
                host.paths.append(SeenPath(words[0], "folder", words[1].rstrip("/"), item.spot))
            elif item.name in _SENDING:
                self._redirect(host, item, words)
            elif item.name == "redirectmatch":
                self._redirect_match(host, item, words)
            elif item.name == "rewriteengine":
                is_rewriting = item.text.strip().lower() == "on"
            elif item.name == "rewritecond":
                conditions.append(item)
            elif item.name == "rewriterule":
                if is_rewriting:
                    self._rewrite(host, item, words, conditions)
                conditions = []
            elif item.name in ("proxypass", "proxypassmatch"):
                self._proxy(host, item, words)
            elif item.name in _NOT_TAKEN:
                self._remarks.append(Remark(item.spot, f"{_TITLES[item.name]} {item.text}", _NOT_TAKEN[item.name]))

    def _redirect(self, host: SeenHost, item: Item, words: list[str]) -> None:
        if words and (words[0].lower() in _STATUSES or words[0].isdigit()):
            words = words[1:]
        target = address_in(words[1]) if len(words) == 2 and "://" in words[1] else None
        if target is None:
            means = "paths that it answers with another status, or sends on within the host, are not in the plan"
            self._remarks.append(Remark(item.spot, f"{item.name} {item.text}", means))
        elif words[0] == "/":
            self._send(host, target, words[1])
        else:
            host.paths.append(SeenPath(words[0].rstrip("/"), "redirect", words[1], item.spot))

    def _redirect_match(self, host: SeenHost, item: Item, words: list[str]) -> None:
        if words and (words[0].lower() in _STATUSES or words[0].isdigit()):
            words = words[1:]
        whole = _WHOLE.fullmatch(words[1]) if len(words) == 2 and words[0] in _ALL else None
        target = address_in(whole[1]) if whole is not None else None
        if target is None:
            means = "the paths that it sends on are not in the plan"
            self._remarks.append(Remark(item.spot, f"RedirectMatch {item.text}", means))
        else:
            self._send(host, target, words[1])

    def _send(self, host: SeenHost, target: Address, written: str) -> None:
        """Note where all visitors are sent on to; where that is the same by https, nothing else is meant."""
        if target == Address(host.name):
            host.to_https = written[:6].lower() == "https:" or host.to_https
        else:
            host.sends_to = target

    def _rewrite(self, host: SeenHost, item: Item, words: list[str], conditions: list[Item]) -> None:
        flags = (
            {flag.partition("=")[0].strip().upper() for flag in words[2].strip("[]").split(",")}
            if len(words) > 2
            else set()
        )
        target = words[1] if len(words) > 1 else "-"
        sends = bool(flags & {"R", "REDIRECT"}) or "://" in target
        if sends and words[0] in _ALL:
            asked = [" ".join(condition.words[:2]).lower() for condition in conditions]
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
                return
        if target == "-" and not flags & {"F", "G", "R", "FORBIDDEN", "GONE", "REDIRECT"}:
            return
        means = "what it makes of addresses is not in the plan; answers there are as if it were not written"
        self._remarks.append(Remark(item.spot, f"RewriteRule {item.text}", means))

    def _proxy(self, host: SeenHost, item: Item, words: list[str]) -> None:
        if len(words) < 2 or words[1] == "!" or words[1].startswith(("fcgi:", "unix:")) or "|fcgi:" in words[1]:
            return
        if words[0] in ("/", *_ALL):
            host.elsewhere = words[1]
        else:
            means = f"what answers below {words[0]} is another program, which the plan knows nothing of"
            self._remarks.append(Remark(item.spot, f"ProxyPass {item.text}", means))

    def _read_access(self, host: SeenHost, inner: list[Item]) -> None:
        root = host.folder
        for place, does, spot in (*self._folders, *_access(inner, "directory")):
            if root is None or does == "open":
                continue
            if root == place or root.startswith(place.rstrip("/") + "/"):
                if does == "password":
                    host.asks_password = True
                elif any(item.name == "directory" and _names(item, root) for item in inner):
                    continue  # opened again nearer to it
            elif place.startswith(root.rstrip("/") + "/"):
                host.paths.append(SeenPath(place[len(root.rstrip("/")) :], does, "", spot))  # type: ignore[arg-type]
        for place, does, spot in _access(inner, "location"):
            if does == "open":
                continue
            if place in ("", "/"):
                host.asks_password = host.asks_password or does == "password"
                if does == "denied":
                    self._remarks.append(
                        Remark(spot, f"{host.name} lets nobody in", "its answers are not as the plan says")
                    )
            else:
                host.paths.append(SeenPath(place.rstrip("/"), does, "", spot))  # type: ignore[arg-type]


_NOT_TAKEN = {
    "aliasmatch": "the paths that it maps to other folders are not in the plan",
    "scriptaliasmatch": "the paths that it maps to programs are not in the plan",
    "fallbackresource": "what is shown for what is not there is not in the plan; a control file may say it",
    "userdir": "addresses such as /~name lead to folders of users; write temporary addresses for those that are used",
}
_TITLES = {
    "aliasmatch": "AliasMatch", "scriptaliasmatch": "ScriptAliasMatch", "fallbackresource": "FallbackResource",
    "userdir": "UserDir",
}  # fmt: skip


def _folder(item: Item) -> str:
    words = item.words
    return posixpath.normpath(words[0]) if words and words[0].startswith("/") else (words or [""])[0]


def _names(item: Item, folder: str) -> bool:
    return bool(item.words) and posixpath.normpath(item.words[0]) == folder


def _access(items: Iterable[Item], kind: str) -> list[_Access]:
    """The folders or addresses that ask for a password or let nobody in, by sections of one kind."""
    found = []
    for item in items:
        if item.name != kind or not item.words or item.words[0] == "~":
            continue
        place = item.words[0]
        required = [" ".join(inner.words).lower() for inner in _within(item.inner) if inner.name == "require"]
        if any(inner.name == "authtype" and inner.text.strip().lower() != "none" for inner in item.inner) and any(
            asked.startswith(("valid-user", "user ", "group ")) for asked in required
        ):
            found.append(_Access(place, "password", item.spot))
        elif ("all denied" in required and place != "/") or (
            any(inner.name == "deny" and inner.text.lower().split() == ["from", "all"] for inner in item.inner)
            and place != "/"
        ):
            found.append(_Access(place, "denied", item.spot))
    return found


def _within(items: Iterable[Item]) -> Iterator[Item]:
    for item in items:
        yield item
        if item.name.startswith("require"):
            yield from _within(item.inner)


def interpolated(pattern: str, name: HostName) -> str | None:
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


def write(layouts: Sequence[AccountLayout], when: When, template: Export) -> list[Part]:
    """Virtual hosts for some accounts: a file for each, wildcards behind all other hosts."""
    secure = frozenset(secure_hosts(layouts, when))
    parts, last = [], []
    for layout in layouts:
        index = layout.plan.settings.index_files
        texts = {True: [], False: []}  # type: dict[bool, list[str]]
        home = home_of(layout, template)
        head = [f'<Directory "{_quoted(home)}">', "    AllowOverride All", "    Options FollowSymLinks",
                "    Require all granted", "</Directory>", ""]  # fmt: skip
        for block in blocks_of(layout, when, template, secure):
            texts[block.names[0][0] == "*"] += _virtual_hosts(block, layout, index, template)
        if texts[False] or texts[True]:
            parts.append(Part(f"{layout.name}.conf", "\n".join([*head, *texts[False]])))
        if texts[True]:
            last.append(Part(f"zz-{layout.name}-wildcards.conf", "\n".join(texts[True])))
    return [*parts, *last]


def _virtual_hosts(block: Block, layout: AccountLayout, index: Sequence[str], template: Export) -> Iterator[str]:
    by_https = block.domain.https and template.certificate is not None
    onward = ["RewriteEngine On", "RewriteRule ^ https://%{HTTP_HOST}%{REQUEST_URI} [R=301,L]"]
    if block.domain.https:
        yield from _virtual_host(block, template.listen, onward, template)
    if by_https or not block.domain.https:
        serving = list(_serving(block, layout, index, template))
        if by_https:
            values = {"{host}": block.domain.name.removeprefix("*."), "{account}": layout.name}
            files = (("SSLCertificateFile", template.certificate), ("SSLCertificateKeyFile", template.key))
            serving = [
                "SSLEngine on",
                *(f'{name} "{_quoted(_with(file, values))}"' for name, file in files if file),
                *serving,
            ]
        yield from _virtual_host(block, template.listen_secure if by_https else template.listen, serving, template)


def _with(text: str, values: dict[str, str]) -> str:
    for name, value in values.items():
        text = text.replace(name, value)
    return text


def _virtual_host(block: Block, listen: str, inner: Sequence[str], template: Export) -> Iterator[str]:
    first = block.names[0]
    yield f"<VirtualHost {listen}>"
    if first[0] != "*":  # of which there is none in ServerName
        yield f"    ServerName {first}"
    aliases = block.names if first[0] == "*" else block.names[1:]
    yield from (f"    ServerAlias {name}" for name in aliases)
    yield from (f"    {line}" for line in (*inner, *template.lines))
    yield "</VirtualHost>"
    yield ""


def _serving(block: Block, layout: AccountLayout, index: Sequence[str], template: Export) -> Iterator[str]:
    """The lines of a host that is served, not only sent on."""
    nowhere = f"{home_of(layout, template)}/{NOWHERE}"
    yield f'DocumentRoot "{_quoted(block.root or nowhere)}"'
    if block.sends_to:
        yield f'Redirect 301 "/" "{block.sends_to.rstrip("/")}/"'
        return
    yield f"DirectoryIndex {' '.join(map(_word, index))}"
    for path, folder in block.paths:
        yield f'Alias "{_quoted(path)}" "{_quoted(folder)}"'
    asks = ["    AuthType Basic", f'    AuthName "{block.domain.name}"',
            f'    AuthUserFile "{_quoted(template.users.replace("{account}", layout.name))}"',
            "    Require valid-user"]  # fmt: skip
    if block.domain.protected:
        yield from ('<Location "/">', *asks, "</Location>")
    for rule in block.rules:
        path = _quoted(path_below(rule))
        if rule.does == "redirect":
            yield f'Redirect 301 "{path}" "{_quoted(rule.to if "://" in rule.to else f"http://{rule.to}")}"'
        elif rule.does in ("password", "denied"):
            inner = asks if rule.does == "password" else ["    Require all denied"]
            yield from (f'<Location "{path}">', *inner, "</Location>")


def _quoted(text: str) -> str:
    return writable(text).replace("\\", "\\\\").replace('"', '\\"')


def _word(name: str) -> str:
    return f'"{_quoted(name)}"' if any(sign in name for sign in " \t\"'") else name
