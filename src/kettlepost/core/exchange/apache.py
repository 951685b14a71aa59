"""Virtual hosts of the Apache HTTP Server 2.4, as distributions lay them out and people write them."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

from kettlepost.core.exchange.apache_config import Expansion
from kettlepost.core.exchange.apache_hosts import ServerHosts
from kettlepost.core.exchange.blocks import NOWHERE, Block, blocks_of, home_of, path_below, secure_hosts, writable
from kettlepost.core.exchange.observed import Opener, Part, Reading, joined
from kettlepost.core.layout import AccountLayout, When
from kettlepost.core.plan import Export

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


def is_it(raw: bytes) -> bool:
    """Whether a file is of this kind, by what is in it."""
    text = raw[:200_000].decode("utf-8", "replace")
    return bool(_LOOKS.search(text)) and not _OTHERS.search(text)


def read(files: Sequence[tuple[str, bytes]], opener: Opener, root: str = "") -> Reading:
    """The hosts of some files and of all that they include; `root` is the server's own folder where none says."""
    found = Reading()
    expanded = Expansion(opener, root, found.remarks)
    items = [item for name, raw in files for item in expanded.file(name, raw)]
    server = ServerHosts(items, found.remarks)
    found.hosts = joined(server.hosts(), found.remarks)
    found.reserved = server.reserved()
    found.user_folder = server.user_folder()
    found.files = expanded.files
    return found


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
