"""Servers of nginx."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from typing import assert_never
from urllib.parse import quote

from kettlepost.core.exchange.blocks import (
    ACME,
    NOWHERE,
    Block,
    blocks_of,
    home_of,
    log_files,
    named_file,
    path_below,
    php_socket,
    secure_hosts,
)
from kettlepost.core.exchange.kept_nginx import kept_nginx
from kettlepost.core.exchange.nginx_hosts import Parser, hosts_of
from kettlepost.core.exchange.observed import Opener, OutputFile, Reading, joined
from kettlepost.core.layout import AccountLayout, When
from kettlepost.core.plan import Export, PathRule
from kettlepost.core.quoting.nginx import Nginx, inside, regex, value, word

_LOOKS = re.compile(
    r"^[ \t]*(?:server|http|events|upstream\s+\S+|map\s+\S+\s+\S+|location\s[^;{}<>]*)\s*\{"
    r"|^[ \t]*(?:server_name|root|index|include|fastcgi_\w+|ssl_\w+|proxy_\w+|try_files|return|rewrite|listen|"
    r"load_module)"
    r"[ \t]+[^;{}<>]+;",
    re.MULTILINE,
)


def is_it(raw: bytes) -> bool:
    """Whether a file is of this kind, by what is in it."""
    return bool(_LOOKS.search(raw[:200_000].decode("utf-8", "replace")))


def read(files: Sequence[tuple[str, bytes]], opener: Opener, root: str = "") -> Reading:
    """The hosts of some files and of all that they include; `root` is the folder that relative names begin in."""
    found = Reading()
    parser = Parser(opener, root, found.remarks)
    items = [item for name, raw in files for item in parser.file(name, raw)]
    found.hosts = joined(hosts_of(items, found.remarks, {}), found.remarks)
    found.files = parser.files
    found.configurations.append(kept_nginx(items))
    return found


def write(layouts: Sequence[AccountLayout], when: When, template: Export) -> list[OutputFile]:
    """Servers for some accounts, a file for each. Raises InputError for what a configuration cannot say."""
    secure = frozenset(secure_hosts(layouts, when))
    parts = []
    for layout in layouts:
        lines = [
            line for block in blocks_of(layout, when, template, secure) for line in _servers(block, layout, template)
        ]
        if lines:
            parts.append(OutputFile(f"{layout.name}.conf", Nginx.joined(lines)))
    unknown = list(_unknown_names(template))
    return [OutputFile("00-unknown-names.conf", Nginx.joined(unknown)), *parts] if unknown and parts else parts


def _unknown_names(template: Export) -> Iterator[Nginx]:
    """The first server of each port, which answers for names that no other one has, and refuses them."""
    if template.unknown_names is None:
        return
    for listen, ssl, does in (
        (template.listen, Nginx.of(""), Nginx.of("return 403;")),
        (template.listen_secure, Nginx.of(" ssl"), Nginx.of("ssl_reject_handshake on;")),
    ):
        yield Nginx.of("server {")
        yield Nginx.of("    listen «listen»«ssl» default_server;", listen=_words(listen), ssl=ssl)
        yield Nginx.of("    server_name _;")
        yield Nginx.of("    «does»", does=does)
        yield Nginx.of("}")
        yield Nginx.of("")


def _servers(block: Block, layout: AccountLayout, template: Export) -> Iterator[Nginx]:
    by_https = block.domain.https and template.certificate is not None
    if block.domain.https:
        onward = Nginx.of("return 301 https://$host$request_uri;")
        if template.acme:
            onward = Nginx.of("location / { «onward» }", onward=onward)
        inner = [*_acme(template), onward, *_logs(block, layout, template)]
        yield from _server(block, _words(template.listen), inner)
    if by_https or not block.domain.https:
        inner = list(_Serving(block, layout, template).lines())
        listen = _words(template.listen_secure if by_https else template.listen)
        if by_https:
            inner = [*_certificate(block, layout, template), *inner]
            listen = Nginx.of("«listen» ssl", listen=listen)
        yield from _server(block, listen, [*_acme(template), *inner, *_logs(block, layout, template)])


def _logs(block: Block, layout: AccountLayout, template: Export) -> Iterator[Nginx]:
    named = zip(("access_log", "error_log"), log_files(block, layout, template), strict=True)
    yield from (Nginx.of("«name» «file»;", name=word(name), file=value(file)) for name, file in named if file)


def _acme(template: Export) -> Iterator[Nginx]:
    """Where whoever renews certificates gets the answers."""
    if template.acme:
        root = value(template.acme.rstrip("/"))
        yield Nginx.of("location ^~ «path» { auth_basic off; root «root»; }", path=word(ACME), root=root)


def _certificate(block: Block, layout: AccountLayout, template: Export) -> Iterator[Nginx]:
    for file, name in (
        (template.key, Nginx.of("ssl_certificate_key")), (template.certificate, Nginx.of("ssl_certificate"))
    ):  # fmt: skip
        if file:
            path = value(named_file(file, block, layout))
            yield Nginx.of("«name» «path»;", name=name, path=path)


def _server(block: Block, listen: Nginx, inner: Sequence[Nginx]) -> Iterator[Nginx]:
    names = Nginx.joined(map(word, block.names), " ")
    yield Nginx.of("server {")
    yield Nginx.of("    listen «listen»;", listen=listen)
    yield Nginx.of("    server_name «names»;", names=names)
    yield from (Nginx.of("    «line»", line=line) for line in inner)
    yield Nginx.of("}")
    yield Nginx.of("")


class _Serving:
    """The lines of a host that is served.

    Of the locations that may hold for a path nginx takes one alone. So each says for itself what holds there: a
    password that is asked for around it, and who runs PHP, as its source would be handed out else. Where
    [export] does not say who does, it is handed out as any file is.
    """

    def __init__(self, block: Block, layout: AccountLayout, template: Export):
        self._block, self._layout, self._template = block, layout, template
        self._socket = php_socket(block, layout, template) or template.php
        self._rules = [(path_below(rule), rule) for rule in block.rules]
        users = value(template.users.replace("{account}", layout.name))
        realm = value(str(block.domain.name))
        self._asks = Nginx.of("auth_basic «realm»; auth_basic_user_file «users»; ", realm=realm, users=users)

    def lines(self) -> Iterator[Nginx]:
        block = self._block
        if block.sends_to:
            to = inside(block.sends_to.rstrip("/"))
            yield Nginx.of('location / { return 301 "«to»$request_uri"; }', to=to)
        elif block.passed_to:
            to = value(block.passed_to.rstrip("/"))
            yield Nginx.of("location / { proxy_set_header Host $host; proxy_pass «to»; }", to=to)
        else:
            yield from self._of_folder()

    def _of_folder(self) -> Iterator[Nginx]:
        """The lines of a host that a folder answers for."""
        block = self._block
        nowhere = f"{home_of(self._layout, self._template)}/{NOWHERE}"
        yield Nginx.of("root «root»;", root=value(block.root or nowhere))
        index = Nginx.joined(map(value, self._layout.index_files), " ")
        yield Nginx.of("index «files»;", files=index)
        if self._layout.server.lists:
            yield Nginx.of("autoindex on;")
        if block.domain.protected:
            yield self._asks
        tried = self._tried(block.domain.fallback)
        if tried:
            yield Nginx.of("location / { «tried»}", tried=tried)
        if self._socket:
            yield self._php()
        folders = dict(reversed(block.paths))  # of two at one path the first answers
        for path, rule in self._rules:
            is_with_folder = path in folders and not self._is_shut(path)
            if not is_with_folder and not self._is_shut(path, rule):
                yield from self._rule(path, rule)
        for path, folder in folders.items():
            if not self._is_shut(path):
                yield from self._alias(path, folder)

    def _rule(self, path: str, rule: PathRule) -> Iterator[Nginx]:
        inner = nested = guard = self._guard(path)
        match rule.does:
            case "redirect":
                to = inside((rule.to if "://" in rule.to else f"http://{rule.to}").rstrip("/"))
                inner = Nginx.of('rewrite "^«path»(/.*)?$" "«to»$1" permanent; ', path=regex(path), to=to)
                nested = inner
            case "denied":
                inner = nested = Nginx.of("return 403; ")
            case "fallback":
                inner = Nginx.of("«inner»«tried»", inner=inner, tried=self._tried(rule.to))
                nested = Nginx.of("«inner»«php» ", inner=inner, php=self._php())
            case "password":
                inner = Nginx.of("«inner»«tried»", inner=inner, tried=self._tried(self._block.domain.fallback))
                nested = Nginx.of("«inner»«php» ", inner=inner, php=self._php())
            case _:
                assert_never(rule.does)
        if path.endswith(".php") and self._socket and rule.does in ("fallback", "password"):
            inner = Nginx.of("«guard»«php»", guard=guard, php=self._run())
        yield Nginx.of("location = «path» { «inner»}", path=word(path), inner=inner)
        yield Nginx.of("location ^~ «path» { «nested»}", path=word(f"{path}/"), nested=nested)

    def _alias(self, path: str, folder: str) -> Iterator[Nginx]:
        guard = self._guard(path)
        to = Nginx.of("return 301 $scheme://$host«path»/;", path=value(quote(path)))
        if guard or self._block.domain.protected:  # which "return" would come before
            to = Nginx.of("«guard»alias «folder»;", guard=guard, folder=value(folder))
        yield Nginx.of("location = «path» { «to» }", path=word(path), to=to)
        shown = next((rule.to for own, rule in self._rules if own == path and rule.does == "fallback"), None)
        yield Nginx.of(
            "location ^~ «path» { «guard»alias «folder»; «tried»«php» }", path=word(f"{path}/"), guard=guard,
            folder=value(f"{folder}/"), tried=self._tried(shown), php=self._php(Nginx.of("$request_filename")),
        )  # fmt: skip

    def _around(self, path: str) -> Iterator[PathRule]:
        """The rules that hold at a path, those with the same one last."""
        return (rule for own, rule in sorted(self._rules) if path == own or path.startswith(f"{own}/"))

    def _is_shut(self, path: str, but: PathRule | None = None) -> bool:
        """Whether all at a path is sent on or denied by a rule around it, or before it, so that nothing else holds."""
        for rule in self._around(path):
            if rule is but:
                return False
            if rule.does in ("redirect", "denied"):
                return True
        return False

    def _guard(self, path: str) -> Nginx:
        asks = any(rule.does == "password" for rule in self._around(path))
        return self._asks if asks and not self._block.domain.protected else Nginx.of("")

    def _tried(self, fallback: str | None) -> Nginx:
        if fallback is None:
            return Nginx.of("")
        is_address = "?" in fallback or fallback.endswith(".php")
        last = Nginx.of("" if is_address else " =404")  # without which a file that is not there is sought in a circle
        return Nginx.of("try_files $uri $uri/ «to»«last»; ", to=value(fallback), last=last)

    def _php(self, file: Nginx | None = None) -> Nginx:
        """Who runs PHP in a location, or on the whole host; nothing where nobody does."""
        runs = self._run(file)
        return Nginx.of("location ~ \\.php$ { «runs»}", runs=runs) if runs else Nginx.of("")

    def _run(self, file: Nginx | None = None) -> Nginx:
        """What hands a file on to PHP, one below a path alias by its whole path."""
        if not self._socket:
            return Nginx.of("")
        # below an alias `try_files` looks elsewhere
        is_there = Nginx.of(
            "if (!-f $request_filename) { return 404; }" if file is not None else "try_files $uri =404;"
        )
        return Nginx.of(
            "«is_there» fastcgi_pass «php»; include fastcgi_params; fastcgi_param SCRIPT_FILENAME «file»; ",
            is_there=is_there, php=value(self._socket), file=file or Nginx.of("$document_root$fastcgi_script_name"),
        )  # fmt: skip


def _words(text: str) -> Nginx:
    """Several words, as they stand under [export]."""
    return Nginx.joined(map(value, text.split()), " ")
