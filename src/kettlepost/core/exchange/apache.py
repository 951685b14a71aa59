"""Virtual hosts of the Apache HTTP Server 2.4, as distributions lay them out and people write them."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

from kettlepost.core.exchange.apache_config import Expansion
from kettlepost.core.exchange.apache_hosts import ServerHosts
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
from kettlepost.core.messages import say
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
    means = say("import/not-modelled")
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
            root = server.setup(chosen, WebServer("apache")).document_root.rstrip("/")
            spot = SourceSpot(chosen.file, chosen.line)
            if not root or root == host.folder:
                own.append(name)
                continue
            means = say("import/in-vain/means", spot=spot, root=root)
            told = say("import/in-vain", name=name, folder=host.folder or "nothing")
            remarks.append(ImportRemark(host.spot, told, means))
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
    unknown = list(_unknown_names(template))
    first = [OutputFile("00-unknown-names.conf", Apache.joined(unknown))] if unknown and parts else []
    return [*first, *parts, *last]


def _unknown_names(template: Export) -> Iterator[Apache]:
    """The first host of each port, which answers for names that no other one has, and refuses them."""
    if template.unknown_names is None:
        return
    certificate = [
        Apache.of("    «name» «file»", name=name, file=in_quotes(file))
        for file, name in (
            (template.unknown_certificate, Apache.of("SSLCertificateFile")),
            (template.unknown_key, Apache.of("SSLCertificateKeyFile")),
        ) if file
    ]  # fmt: skip
    secure = [Apache.of("    SSLEngine on"), *certificate] if certificate else None
    if secure is None:
        yield Apache.of("# by https they get the first host below: unknown_certificate under [export] refuses them")
    for listen, more in ((template.listen, []), (template.listen_secure, secure)):
        if more is None:
            continue
        yield Apache.of("<VirtualHost «listen»>", listen=Apache.joined(map(word, listen.split()), " "))
        yield from more
        inner = (section(Apache.of("Location"), "/"), Apache.of("    Require all denied"), Apache.of("</Location>"))
        yield from (Apache.of("    «line»", line=line) for line in inner)
        yield Apache.of("</VirtualHost>")
        yield Apache.of("")


def _options(server: WebServer) -> list[str]:
    """What holds in the folders of a server's accounts, as its record says."""
    follows = {"always": ["FollowSymLinks"], "owner": ["SymLinksIfOwnerMatch"], "never": []}[server.follow_links]
    return [*follows, *(["Indexes"] if server.lists else [])] or ["None"]


def _virtual_hosts(block: Block, layout: AccountLayout, index: Sequence[str], template: Export) -> Iterator[Apache]:
    by_https = block.domain.https and template.certificate is not None
    onward = [
        *_acme(template), Apache.of("RewriteEngine On"), *_but_acme(template),
        Apache.of("RewriteRule ^ https://%{HTTP_HOST}%{REQUEST_URI} [R=301,L]"),
    ]  # fmt: skip
    if block.domain.https:
        yield from _virtual_host(block, template.listen, [*onward, *_logs(block, layout, template)], template)
    if by_https or not block.domain.https:
        serving = list(_serving(block, layout, index, template))
        if by_https:
            serving = [*_certificate(block, layout, template), *serving]
        serving += _logs(block, layout, template)
        yield from _virtual_host(block, template.listen_secure if by_https else template.listen, serving, template)


def _logs(block: Block, layout: AccountLayout, template: Export) -> Iterator[Apache]:
    access, errors = log_files(block, layout, template)
    if access:
        yield Apache.of("CustomLog «file» combined", file=in_quotes(access))
    if errors:
        yield Apache.of("ErrorLog «file»", file=in_quotes(errors))


def _acme(template: Export) -> Iterator[Apache]:
    """Where whoever renews certificates gets the answers."""
    if template.acme:
        folder = f"{template.acme.rstrip('/')}{ACME}"
        yield Apache.of("Alias «path» «folder»", path=in_quotes(ACME), folder=in_quotes(folder))
        yield section(Apache.of("Directory"), template.acme.rstrip("/"))
        yield Apache.of("    Require all granted")
        yield section_end(Apache.of("Directory"), template.acme.rstrip("/"))


def _but_acme(template: Export) -> Iterator[Apache]:
    if template.acme:
        yield Apache.of("RewriteCond %{REQUEST_URI} !^/\\.well-known/acme-challenge/")


def _php(block: Block, layout: AccountLayout, template: Export) -> Iterator[Apache]:
    socket = php_socket(block, layout, template)
    if socket is not None:
        handler = f"proxy:{socket}|fcgi://localhost" if socket.startswith("unix:") else f"proxy:fcgi://{socket}"
        yield Apache.of('<FilesMatch "\\.php$">')
        yield Apache.of("    SetHandler «handler»", handler=in_quotes(handler))
        yield Apache.of("</FilesMatch>")


def _certificate(block: Block, layout: AccountLayout, template: Export) -> Iterator[Apache]:
    yield Apache.of("SSLEngine on")
    for file, name in (
        (template.certificate, Apache.of("SSLCertificateFile")), (template.key, Apache.of("SSLCertificateKeyFile"))
    ):  # fmt: skip
        if file:
            path = in_quotes(named_file(file, block, layout))
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
    if block.passed_to:
        yield from _passed_on(block, template)
    elif block.sends_to:
        yield from _sent_on(block, template)
    else:
        yield Apache.of("DirectoryIndex «files»", files=Apache.joined(map(word, index), " "))
        yield from (*_acme(template), *_php(block, layout, template), *_of_paths(block, layout, template))


def _passed_on(block: Block, template: Export) -> Iterator[Apache]:
    """The lines of a host that a program answers for."""
    program = in_quotes(f"{block.passed_to.rstrip('/')}/")
    if template.acme:
        yield from (Apache.of("ProxyPass «path» !", path=in_quotes(ACME)), *_acme(template))
    yield from (Apache.of("ProxyPreserveHost On"), Apache.of('ProxyPass "/" «to»', to=program))
    yield Apache.of('ProxyPassReverse "/" «to»', to=program)


def _sent_on(block: Block, template: Export) -> Iterator[Apache]:
    """The lines of a host that sends its visitors to another."""
    to = block.sends_to.rstrip("/")
    if not template.acme:
        yield Apache.of('Redirect 301 "/" «to»', to=in_quotes(f"{to}/"))
        return
    yield from (*_acme(template), Apache.of("RewriteEngine On"), *_but_acme(template))
    yield Apache.of("RewriteRule ^ «to» [R=301,L]", to=in_quotes(f"{to}%{{REQUEST_URI}}"))


def _of_paths(block: Block, layout: AccountLayout, template: Export) -> Iterator[Apache]:
    """What a host does with some of its paths."""
    for path, folder in block.paths:
        yield Apache.of("Alias «path» «folder»", path=in_quotes(path), folder=in_quotes(folder))
    users = in_quotes(template.users.replace("{account}", layout.name))
    asks = [
        Apache.of("    AuthType Basic"), Apache.of("    AuthName «realm»", realm=in_quotes(block.domain.name)),
        Apache.of("    AuthUserFile «users»", users=users), Apache.of("    Require valid-user"),
    ]  # fmt: skip
    if block.domain.protected:
        yield from (section(Apache.of("Location"), "/"), *asks, section_end(Apache.of("Location"), "/"))
        if template.acme:
            yield section(Apache.of("Location"), ACME)
            yield from (Apache.of("    AuthType None"), Apache.of("    Require all granted"), Apache.of("</Location>"))
    for rule in block.rules:
        path = path_below(rule)
        if rule.does == "redirect":
            to = rule.to if "://" in rule.to else f"http://{rule.to}"
            yield Apache.of("Redirect 301 «path» «to»", path=in_quotes(path), to=in_quotes(to))
        elif rule.does in ("password", "denied"):
            inner = asks if rule.does == "password" else [Apache.of("    Require all denied")]
            yield from (section(Apache.of("Location"), path), *inner, section_end(Apache.of("Location"), path))
