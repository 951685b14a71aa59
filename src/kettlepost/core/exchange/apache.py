"""Virtual hosts of the Apache HTTP Server 2.4, as distributions lay them out and people write them."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

from kettlepost.core.exchange.apache_config import Expansion
from kettlepost.core.exchange.apache_hosts import ServerHosts
from kettlepost.core.exchange.blocks import NOWHERE, Block, blocks_of, home_of, path_below, secure_hosts
from kettlepost.core.exchange.kept_configuration import kept_apache, not_modelled
from kettlepost.core.exchange.observed import (
    ImportRemark,
    Opener,
    OutputFile,
    Reading,
    SeenHost,
    SourceSpot,
    joined,
)
from kettlepost.core.layout import AccountLayout, When
from kettlepost.core.names import HostName
from kettlepost.core.plan import Export
from kettlepost.core.quoting.apache import Apache, in_quotes, own_line, section, section_end, word
from kettlepost.core.webserver import ApacheHosts, WebServer

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
    is_whole = bool(expanded.modules) or any(item.name == "serverroot" for item in items)
    found.configurations.append(kept_apache(items, expanded.modules, is_whole))
    _tell_others(found)
    found.hosts = list(_as_chosen(found.hosts, ApacheHosts(found.configurations[-1]), found.remarks))
    return found


def _tell_others(found: Reading) -> None:
    """Remark the lines of a configuration that are kept and not carried out."""
    configuration = found.configurations[-1]
    means = "it is not modelled: what it can touch is told to depend on it"
    for line in not_modelled(configuration):
        spot = SourceSpot(*configuration.spot(line))
        found.remarks.append(ImportRemark(spot, f"{line.name} {line.text}".strip(), means))


def _as_chosen(hosts: list[SeenHost], server: ApacheHosts, remarks: list[ImportRemark]) -> Iterator[SeenHost]:
    """Hosts, where a name that one before them has by a wildcard leads where that one does, as the server has it."""
    for host in hosts:
        own: list[HostName] = []
        for name in (host.name, *host.names):
            chosen = server.chosen(name, "https" if host.is_secure else "http")
            if chosen is None or not chosen.answers_for(name) or chosen.has_by_itself(name):
                own.append(name)
                continue
            root, spot = server.setup(chosen).document_root.rstrip("/"), SourceSpot(chosen.file, chosen.line)
            if not root or root == host.folder:
                own.append(name)
                continue
            means = f"the host at {spot} stands before it and has the name by a wildcard: it leads to {root}"
            remarks.append(ImportRemark(host.spot, f"{name} leads to {host.folder or 'nothing'} in vain", means))
            yield SeenHost(name, spot, root, server="apache", user=host.user, account=host.account)
        if own:
            host.name, host.names = own[0], own[1:]
            yield host


def write(layouts: Sequence[AccountLayout], when: When, template: Export) -> list[OutputFile]:
    """Virtual hosts for some accounts: a file for each, wildcards behind all other hosts.

    Raises InputError for what a configuration cannot say.
    """
    secure = frozenset(secure_hosts(layouts, when))
    parts, last = [], []
    for layout in layouts:
        index = layout.index_files
        texts: dict[bool, list[Apache]] = {True: [], False: []}
        overrides = Apache.joined(map(word, layout.server.allow_override), " ")
        options = Apache.joined(map(word, _options(layout.server)), " ")
        head = [section(Apache.of("Directory"), home_of(layout, template)),
                Apache.of("    AllowOverride «overrides»", overrides=overrides),
                Apache.of("    Options «options»", options=options), Apache.of("    Require all granted"),
                section_end(Apache.of("Directory"), home_of(layout, template)), Apache.of("")]  # fmt: skip
        for block in blocks_of(layout, when, template, secure):
            texts[block.names[0][0] == "*"] += _virtual_hosts(block, layout, index, template)
        if texts[False] or texts[True]:
            parts.append(OutputFile(f"{layout.name}.conf", Apache.joined([*head, *texts[False]])))
        if texts[True]:
            last.append(OutputFile(f"zz-{layout.name}-wildcards.conf", Apache.joined(texts[True])))
    return [*parts, *last]


def _options(server: WebServer) -> list[str]:
    """What holds in the folders of a server's accounts, as its record says."""
    follows = {"always": ["FollowSymLinks"], "owner": ["SymLinksIfOwnerMatch"], "never": []}[server.follow_links]
    return [*follows, *(["Indexes"] if server.lists else [])] or ["None"]


def _virtual_hosts(block: Block, layout: AccountLayout, index: Sequence[str], template: Export) -> Iterator[Apache]:
    by_https = block.domain.https and template.certificate is not None
    onward = [Apache.of("RewriteEngine On"), Apache.of("RewriteRule ^ https://%{HTTP_HOST}%{REQUEST_URI} [R=301,L]")]
    if block.domain.https:
        yield from _virtual_host(block, template.listen, onward, template)
    if by_https or not block.domain.https:
        serving = list(_serving(block, layout, index, template))
        if by_https:
            serving = [*_certificate(block, layout, template), *serving]
        yield from _virtual_host(block, template.listen_secure if by_https else template.listen, serving, template)


def _certificate(block: Block, layout: AccountLayout, template: Export) -> Iterator[Apache]:
    yield Apache.of("SSLEngine on")
    host = block.domain.name.removeprefix("*.")
    for file, name in (
        (template.certificate, Apache.of("SSLCertificateFile")), (template.key, Apache.of("SSLCertificateKeyFile"))
    ):  # fmt: skip
        if file:
            path = in_quotes(file.replace("{host}", host).replace("{account}", layout.name))
            yield Apache.of("«name» «path»", name=name, path=path)


def _virtual_host(block: Block, listen: str, inner: Sequence[Apache], template: Export) -> Iterator[Apache]:
    first = block.names[0]
    yield Apache.of("<VirtualHost «listen»>", listen=Apache.joined(map(word, listen.split()), " "))
    if first[0] != "*":  # of which there is none in ServerName
        yield Apache.of("    ServerName «name»", name=word(first))
    aliases = block.names if first[0] == "*" else block.names[1:]
    yield from (Apache.of("    ServerAlias «name»", name=word(name)) for name in aliases)
    yield from (Apache.of("    «line»", line=line) for line in (*inner, *map(own_line, template.lines)))
    yield Apache.of("</VirtualHost>")
    yield Apache.of("")


def _serving(block: Block, layout: AccountLayout, index: Sequence[str], template: Export) -> Iterator[Apache]:
    """The lines of a host that is served, not only sent on."""
    nowhere = f"{home_of(layout, template)}/{NOWHERE}"
    yield Apache.of("DocumentRoot «root»", root=in_quotes(block.root or nowhere))
    if block.sends_to:
        yield Apache.of('Redirect 301 "/" «to»', to=in_quotes(f"{block.sends_to.rstrip('/')}/"))
        return
    yield Apache.of("DirectoryIndex «files»", files=Apache.joined(map(word, index), " "))
    for path, folder in block.paths:
        yield Apache.of("Alias «path» «folder»", path=in_quotes(path), folder=in_quotes(folder))
    users = in_quotes(template.users.replace("{account}", layout.name))
    asks = [
        Apache.of("    AuthType Basic"), Apache.of("    AuthName «realm»", realm=in_quotes(block.domain.name)),
        Apache.of("    AuthUserFile «users»", users=users), Apache.of("    Require valid-user"),
    ]  # fmt: skip
    if block.domain.protected:
        yield from (section(Apache.of("Location"), "/"), *asks, section_end(Apache.of("Location"), "/"))
    for rule in block.rules:
        path = path_below(rule)
        if rule.does == "redirect":
            to = rule.to if "://" in rule.to else f"http://{rule.to}"
            yield Apache.of("Redirect 301 «path» «to»", path=in_quotes(path), to=in_quotes(to))
        elif rule.does in ("password", "denied"):
            inner = asks if rule.does == "password" else [Apache.of("    Require all denied")]
            yield from (section(Apache.of("Location"), path), *inner, section_end(Apache.of("Location"), path))
