"""Servers of nginx."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from urllib.parse import quote

from kettlepost.core.errors import InputError
from kettlepost.core.exchange.blocks import NOWHERE, Block, blocks_of, home_of, path_below, secure_hosts, writable
from kettlepost.core.exchange.nginx_hosts import Parser, hosts_of
from kettlepost.core.exchange.observed import Opener, Part, Reading, joined
from kettlepost.core.layout import AccountLayout, When
from kettlepost.core.names import quoted
from kettlepost.core.plan import Export

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
    return found


def write(layouts: Sequence[AccountLayout], when: When, template: Export) -> list[Part]:
    """Servers for some accounts, a file for each."""
    secure = frozenset(secure_hosts(layouts, when))
    parts = []
    for layout in layouts:
        lines = [
            line for block in blocks_of(layout, when, template, secure) for line in _servers(block, layout, template)
        ]
        if lines:
            parts.append(Part(f"{layout.name}.conf", "\n".join(lines)))
    return parts


def _servers(block: Block, layout: AccountLayout, template: Export) -> Iterator[str]:
    by_https = block.domain.https and template.certificate is not None
    if block.domain.https:
        yield from _server(block, template.listen, ["return 301 https://$host$request_uri;"])
    if by_https or not block.domain.https:
        inner = list(_serving(block, layout, template))
        if by_https:
            for name, file in (("ssl_certificate", template.certificate), ("ssl_certificate_key", template.key)):
                if file:
                    host = block.domain.name.removeprefix("*.")
                    inner.insert(0, f"{name} {_word(file.replace('{host}', host).replace('{account}', layout.name))};")
        listen = f"{template.listen_secure} ssl" if by_https else template.listen
        yield from _server(block, listen, inner)


def _server(block: Block, listen: str, inner: Sequence[str]) -> Iterator[str]:
    yield "server {"
    yield f"    listen {listen};"
    yield f"    server_name {' '.join(block.names)};"
    yield from (f"    {line}" for line in inner)
    yield "}"
    yield ""


def _serving(block: Block, layout: AccountLayout, template: Export) -> Iterator[str]:
    """The lines of a host that is served, not only sent on."""
    if block.sends_to:
        yield f"location / {{ return 301 {block.sends_to.rstrip('/')}$request_uri; }}"
        return
    nowhere = f"{home_of(layout, template)}/{NOWHERE}"
    yield f"root {_word(block.root or nowhere)};"
    yield f"index {' '.join(map(_word, layout.plan.settings.index_files))};"
    users = template.users.replace("{account}", layout.name)
    asks = f'auth_basic "{block.domain.name}"; auth_basic_user_file {_word(users)};'
    if block.domain.protected:
        yield asks
    fallback = block.domain.fallback
    tried = f"try_files $uri $uri/ {_word(fallback)};" if fallback is not None else ""
    if tried:
        yield f"location / {{ {tried} }}"
    php = f"fastcgi_pass {template.php}; include fastcgi_params; fastcgi_param SCRIPT_FILENAME" if template.php else ""
    if php:
        yield f"location ~ \\.php$ {{ {php} $document_root$fastcgi_script_name; }}"
    for rule in block.rules:
        path = path_below(rule)
        if rule.does == "redirect":
            to = (rule.to if "://" in rule.to else f"http://{rule.to}").rstrip("/")
            does = f'rewrite "^{re.escape(path)}(?:/(.*))?$" {to}/$1 permanent;'
        elif rule.does == "fallback":
            does = f"try_files $uri $uri/ {_word(rule.to)};"
        else:
            does = "return 403;" if rule.does == "denied" else f"{asks} {tried}".strip()
        first = "^~ " if rule.does != "fallback" else ""
        yield f"location = {_word(path)} {{ {does} }}"
        yield f"location {first}{_word(path + '/')} {{ {does} }}"
    for path, folder in block.paths:
        inner = f"location ~ \\.php$ {{ {php} $request_filename; }} " if php else ""
        yield f"location = {_word(path)} {{ return 301 $scheme://$host{quote(path)}/; }}"
        yield f"location ^~ {_word(path + '/')} {{ alias {_word(folder + '/')}; {inner}}}"


def _word(text: str) -> str:
    """A word as it is written: in quotes where it holds what ends one."""
    if re.search(r"[\s{};\"'#\\$]", writable(text)) is None:
        return text
    if "$" in text:
        raise InputError(f"{quoted(text)} holds a $, which is no plain sign to nginx; rename it")
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"') + '"'
