"""The hosts of an nginx server, from its configuration put together.

The parser is one of our own: the one that packages offer opens files by itself, wherever an `include`
leads, and takes many times as long as the server itself for tens of thousands of hosts.
"""

from __future__ import annotations

import posixpath
import re
from collections.abc import Iterable, Iterator, Mapping
from typing import NamedTuple

from kettlepost.core.exchange.observed import (
    DEEPEST,
    KEPT,
    LARGEST,
    ImportRemark,
    Opener,
    SeenHost,
    SeenPath,
    SourceSpot,
    address_in,
    host_in,
    php_pool,
)
from kettlepost.core.messages import Words, say
from kettlepost.core.names import Address, HostName
from kettlepost.core.secrets import without_password

_TOKEN = re.compile(
    r"""\s+|\#[^\n]*|([{};])|"((?:[^"\\]|\\.)*)"|'((?:[^'\\]|\\.)*)'|((?:\$\{[^}]*\}|\\.|[^\s{};"'#\\]|(?<=[^\s{};])["'#])+)""",
    re.DOTALL,
)
_SEND = re.compile(r"(?:https?://)([^$\s]+?)(?:/?\$request_uri|\$uri(?:\$is_args\$args)?|/?\$1|/)?\??")
_TO_HTTPS = re.compile(r"https://\$(?:host|server_name|http_host)(?::443)?\$(?:request_uri|uri(?:\$is_args\$args)?)\??")
_ALL = ("^", "^/", "^(.*)$", "^/(.*)$", "^(.*)", "^/(.*)", ".*", "^/?(.*)$", "^.*$")
SECRET_VARIABLE = re.compile(
    r"\$(?:http_(?:x_|authorization|.*key|.*token)|cookie_|arg_(?:.*key|.*token|.*pass))", re.IGNORECASE
)
"""Variables whose values may be known to few."""
_LONGEST = 4_096


class NginxNode(NamedTuple):
    """A directive with its words, or a block with what is in it."""

    name: str
    words: list[str]
    spot: SourceSpot
    inner: list[NginxNode] | None


class Parser:
    """Words, blocks and includes."""

    def __init__(self, opener: Opener, root: str, remarks: list[ImportRemark]):
        self._opener = opener
        self._root = root
        self._remarks = remarks
        self._open: list[str] = []
        self.files: list[str] = []

    def file(self, name: str, raw: bytes) -> list[NginxNode]:
        if len(raw) > LARGEST:
            why = say("import/too-large", megabytes=LARGEST >> 20)
            self._remarks.append(ImportRemark(SourceSpot(name, 0), why, say("import/nothing-read"), cuts=True))
            return []
        self._open.append(name)
        self.files.append(name)
        try:
            return self._parsed(name, raw.decode("utf-8", "replace"))
        finally:
            self._open.pop()

    def _parsed(self, file: str, text: str) -> list[NginxNode]:
        top: list[NginxNode] = []
        stack: list[tuple[list[str], int, list[NginxNode]]] = []
        inner, words, begun, line, at = top, list[str](), 0, 1, 0
        while at < len(text):
            match = _TOKEN.match(text, at)
            if match is None:
                self._fault(file, line, say("import/no-directive", begin=text[at : at + 20].splitlines()[0]))
                return top
            at = match.end()
            sign = match[1]
            if sign is None:
                written = _words_of(match)
                begun = begun if words or not written else line
                words += written
                line += match[0].count("\n")
                continue
            self._opener.intake.items()
            if len(stack) > 100:
                self._fault(file, line, say("import/too-much"))
                return top
            if sign == ";" and words:
                inner += self._directive(words, SourceSpot(file, begun))
            elif sign == "{":
                block = NginxNode(words[0] if words else "", words[1:], SourceSpot(file, begun or line), [])
                stack.append((words, line, inner))
                inner.append(block)
                inner = block.inner  # type: ignore[assignment]
            elif sign == "}" and stack and not words:
                inner = stack.pop()[2]
            elif sign == "}":
                self._fault(file, line, say("import/closes-nothing") if not stack else f"{' '.join(words)} without ;")
                return top
            words = []
        if stack or words:
            self._fault(file, stack[-1][1] if stack else begun, say("import/block-unfinished"))
        return top

    def _fault(self, file: str, line: int, text: Words) -> None:
        means = say("import/syntax/means")
        self._remarks.append(ImportRemark(SourceSpot(file, line), text, means, cuts=True))

    def _directive(self, words: list[str], spot: SourceSpot) -> list[NginxNode]:
        if words[0] != "include" or len(words) != 2:
            return [NginxNode(words[0], words[1:], spot, None)]
        pattern = words[1] if words[1].startswith("/") else posixpath.join(self._root, words[1])
        names = self._opener.matching(pattern)
        if not names and not any(sign in pattern for sign in "*?["):
            self._remarks.append(
                ImportRemark(
                    spot, say("import/not-there/nginx", file=words[1]), say("import/not-there/means"), cuts=True
                )
            )
        found: list[NginxNode] = []
        for name in names:
            if name in self._open or len(self._open) > DEEPEST:
                self._remarks.append(
                    ImportRemark(spot, say("import/includes-itself/nginx", file=words[1]), say("import/not-read-again"))
                )
                break
            raw = self._opener.read(name)
            if raw is None:
                self._remarks.append(
                    ImportRemark(
                        spot, say("import/cannot-be-read", name=name), say("import/not-there/means"), cuts=True
                    )
                )
            else:
                found += self.file(name, raw)
        return found


_HELD = ("root", "index", "auth_basic", "auth_basic_user_file", "ssl_certificate")


def hosts_of(items: Iterable[NginxNode], remarks: list[ImportRemark], held: dict[str, NginxNode]) -> Iterator[SeenHost]:
    """The hosts of all servers, with what holds above them."""
    items = list(items)
    held = held | {item.name: item for item in items if item.name in _HELD and item.inner is None}
    for item in items:
        if item.name == "server" and item.inner is not None:
            yield from _Host(item, held, remarks).read()
        elif item.name == "http" and item.inner is not None:
            yield from hosts_of(item.inner, remarks, held)
        elif item.name in ("location", "if", "rewrite", "return", "try_files"):
            means = say("import/outside-server/means")
            remarks.append(
                ImportRemark(item.spot, say("import/outside-server", item=item.name, words=" ".join(item.words)), means)
            )


class _Host:
    """One `server`."""

    def __init__(self, server: NginxNode, held: dict[str, NginxNode], remarks: list[ImportRemark]):
        self._server = server
        self._remarks = remarks
        self._inner = server.inner or []
        self._said = dict(held)
        self._said |= {item.name: item for item in self._inner if item.inner is None}
        self._set = {
            item.words[0]: item.words[1] for item in self._inner if item.name == "set" and len(item.words) == 2
        }

    def read(self) -> Iterator[SeenHost]:
        names = [(word, item.spot) for item in self._inner if item.name == "server_name" for word in item.words]
        hosts = [host for word, spot in names for host in self._names(word, spot)]
        if not hosts:
            if all(word in ("_", "", "localhost") for word, _ in names):
                means = say("import/host-of-others/means")
                self._remarks.append(ImportRemark(self._server.spot, say("import/host-without-name/nginx"), means))
            return
        spot = next(item.spot for item in self._inner if item.name == "server_name")
        host = SeenHost(hosts[0], spot, server="nginx")
        host.names = list(dict.fromkeys(name for name in hosts[1:] if name != host.name))
        listens = [item.words for item in self._inner if item.name == "listen" and item.words]
        host.is_secure = any("ssl" in words or re.search(r"(?:^|:)443$", words[0]) for words in listens)
        host.folder = self._folder("root", self._said)
        host.pool = php_pool(self._inner)
        index = self._said.get("index")
        host.index = tuple(index.words) if index is not None else ()
        host.asks_password = _asks_password(self._said, self._said)
        certificate = self._said.get("ssl_certificate")
        host.certificate = (certificate.words or [""])[0] if certificate is not None else ""
        is_both = not host.is_secure or any("ssl" not in w and not re.search(r"(?:^|:)443$", w[0]) for w in listens)
        for item in self._inner:
            self._read(host, item)
        yield host
        if host.is_secure and is_both and not host.to_https:
            yield SeenHost(host.name, spot, host.folder, sends_to=host.sends_to, server="nginx")

    def _names(self, word: str, spot: SourceSpot) -> Iterator[HostName]:
        if word in ("_", "", "localhost") or word.startswith("$"):
            return
        if word.startswith("~") or "*" in word.removeprefix("*."):
            self._remarks.append(
                ImportRemark(spot, say("import/wildcard/nginx", word=word), say("import/wildcard/means"))
            )
            return
        for name in (word[1:], f"*{word}") if word.startswith(".") else (word,):
            host = host_in(name, spot, self._remarks)
            if host is not None:
                yield host

    def _folder(self, key: str, said: dict[str, NginxNode]) -> str | None:
        item = said.get(key)
        if item is None or not item.words:
            return None
        folder = item.words[0]
        for name, value in self._set.items():
            folder = folder.replace("${" + name[1:] + "}", value).replace(name, value)[:_LONGEST]
        if "$" in folder:
            means = say("import/folder-varies/means")
            self._remarks.append(ImportRemark(item.spot, f"{key} {item.words[0]}", means))
            return None
        return posixpath.normpath(folder) if folder.startswith("/") else folder

    def _read(self, host: SeenHost, item: NginxNode) -> None:
        if item.name == "return" and item.inner is None:
            self._returned(host, item)
        elif item.name == "rewrite":
            self._rewritten(host, item)
        elif item.name == "location" and item.inner is not None and item.words:
            self._location(host, item)
        elif item.name == "if" and item.inner is not None:
            self._conditional(host, item)
        elif item.name == "try_files":
            self._tried(host, item)

    def _returned(self, host: SeenHost, item: NginxNode) -> None:
        target = item.words[-1] if item.words else ""
        if (len(item.words) == 2 and item.words[0] in ("301", "302", "303", "307", "308")) or "://" in target:
            self._sent(host, target, item)
        else:
            self._remarks.append(
                ImportRemark(item.spot, say("import/return", words=" ".join(item.words), host=host.name), KEPT)
            )

    def _sent(self, host: SeenHost, target: str, item: NginxNode) -> None:
        if _TO_HTTPS.fullmatch(target):
            host.to_https = True
            return
        whole = _SEND.fullmatch(target)
        onward = address_in(whole[1]) if whole is not None else address_in(target) if "$" not in target else None
        if onward == Address(host.name):
            host.to_https = target[:6].lower() == "https:" or host.to_https
            host.onward = list(host.names)
        elif onward is not None:
            host.sends_to = onward
        else:
            self._remarks.append(ImportRemark(item.spot, f"{item.name} {' '.join(item.words)}", KEPT))

    def _rewritten(self, host: SeenHost, item: NginxNode, path: str = "") -> None:
        below = re.fullmatch(r"(https?://[^$]+?)/?\$1\??", item.words[1]) if len(item.words) > 1 else None
        begin = f"^{re.escape(path)}"
        if path and below is not None and item.words[0] in (f"{begin}(/.*)?$", f"{begin}(?:/(.*))?$"):
            host.paths.append(SeenPath(path, "redirect", below[1], item.spot))
            return
        if len(item.words) > 1 and item.words[0] in _ALL and "://" in item.words[1]:
            self._sent(host, item.words[1], item)
        else:
            self._remarks.append(ImportRemark(item.spot, f"rewrite {' '.join(item.words)}", KEPT))

    def _conditional(self, host: SeenHost, item: NginxNode) -> None:
        asked = " ".join(item.words).strip("() ")
        sent = next((inner for inner in item.inner or () if inner.name in ("return", "rewrite")), None)
        target = sent.words[-1 if sent.name == "return" else 1] if sent is not None and len(sent.words) > 1 else ""
        only_itself = asked.startswith(("$scheme", "$https", "$server_port")) or asked == f"$host = {host.name}"
        if only_itself and _TO_HTTPS.fullmatch(target):
            host.to_https = True
            return
        other = re.fullmatch(r"\$(?:host|http_host) = '?\"?([^'\"]+)'?\"?", asked)
        name = host_in(other[1], item.spot, self._remarks) if other is not None else None
        if name is not None and name in host.names and _TO_HTTPS.fullmatch(target):
            return  # the same for another of its names
        told = f"{item.words[0].strip('(')} ..." if SECRET_VARIABLE.search(asked) else asked
        self._remarks.append(ImportRemark(item.spot, f"if ({told})", KEPT))

    def _location(self, host: SeenHost, item: NginxNode) -> None:
        inner = item.inner or []
        said = {one.name: one for one in inner if one.inner is None}
        sign, path = (item.words[0], item.words[1]) if len(item.words) > 1 else ("", item.words[0])
        denied = "deny" in said and said["deny"].words == ["all"] and "allow" not in said
        if sign in ("~", "~*"):
            if not denied and not {"fastcgi_pass", "expires", "access_log", "log_not_found"} & said.keys():
                self._remarks.append(ImportRemark(item.spot, f"location {' '.join(item.words)}", KEPT))
            return
        path = path.rstrip("/")
        if path.startswith("@"):
            return
        if "proxy_pass" in said:
            if not path:
                host.elsewhere = without_password(" ".join(said["proxy_pass"].words))
            else:
                self._remarks.append(ImportRemark(said["proxy_pass"].spot, f"proxy_pass at {path}", KEPT))
            return
        self._located(host, item, path, said, denied)
        for one in inner:
            self._inside_location(host, one, path)

    def _located(self, host: SeenHost, item: NginxNode, path: str, said: dict[str, NginxNode], denied: bool) -> None:
        """The folder of a location, and whom it lets in."""
        alias, root = self._folder("alias", said), self._folder("root", said)
        if path and alias is not None:
            host.paths.append(SeenPath(path, "folder", alias, item.spot))
        elif path and root is not None:
            host.paths.append(SeenPath(path, "folder", root.rstrip("/") + path, item.spot))
        elif root is not None and host.folder is None:
            host.folder = root
        if _asks_password(said, self._said):
            if path:
                host.paths.append(SeenPath(path, "password", "", item.spot))
            else:
                host.asks_password = True
        if denied and path:
            host.paths.append(SeenPath(path, "denied", "", item.spot))

    def _inside_location(self, host: SeenHost, one: NginxNode, path: str) -> None:
        if one.name == "return" and one.inner is None and not path:
            self._returned(host, one)
        elif one.name == "return" and len(one.words) == 2 and "://" in one.words[1] and "$" not in one.words[1]:
            host.paths.append(SeenPath(path, "redirect", one.words[1], one.spot))
        elif one.name == "return" and one.words[:1] == ["403"]:
            host.paths.append(SeenPath(path, "denied", "", one.spot))
        elif one.name == "try_files":
            self._tried(host, one, path)
        elif one.name == "rewrite":
            self._rewritten(host, one, path)
        elif one.name in ("location", "if") and one.inner is not None and one.words[:1] != ["~"]:
            self._remarks.append(ImportRemark(one.spot, f"{one.name} {' '.join(one.words)}", KEPT))

    def _tried(self, host: SeenHost, item: NginxNode, path: str = "") -> None:
        last = item.words[-1].partition("?")[0] if item.words else ""
        if last.startswith("/") and "$" not in last:
            if path:
                host.paths.append(SeenPath(path, "fallback", last, item.spot))
            else:
                host.fallback = last
        elif not last.startswith("="):
            self._remarks.append(ImportRemark(item.spot, f"try_files {' '.join(item.words)}", KEPT))


def _words_of(match: re.Match[str]) -> list[str]:
    """The word that a token is, without its quotes; none for a space and a comment."""
    word = next((part for part in match.group(2, 3, 4) if part is not None), None)
    if word is None:
        return []
    return [re.sub(r"\\([\"'\\])", r"\1", word) if "\\" in word else word]


def _asks_password(said: Mapping[str, NginxNode], above: Mapping[str, NginxNode]) -> bool:
    """Whether lines ask for a password: a name for the prompt, and a file of those who may log in, here or above."""
    prompt = said.get("auth_basic")
    return prompt is not None and prompt.words[:1] != ["off"] and "auth_basic_user_file" in {*said, *above}
