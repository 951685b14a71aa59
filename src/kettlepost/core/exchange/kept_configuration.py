"""What of a server's configuration is kept: the lines that have a say in what answers, and no secret."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from kettlepost.core.exchange.apache_config import ApacheNode
from kettlepost.core.secrets import MASK, masked
from kettlepost.core.webserver import ConfigurationLine, ServerConfiguration
from kettlepost.core.webserver.environment import harmless, without_values
from kettlepost.core.webserver.host_sections import is_carried_out
from kettlepost.core.webserver.settings import is_compiled
from kettlepost.core.webserver.vocabulary import ENVIRONMENT, SECTIONS, is_of_no_account, is_program


class _Files:
    """The files of a configuration by number, in the order in which lines of them are met."""

    def __init__(self) -> None:
        self.numbers: dict[str, int] = {}

    def number(self, file: str) -> int:
        return self.numbers.setdefault(file, len(self.numbers))


def kept_apache(nodes: Iterable[ApacheNode], modules: Iterable[str], is_whole: bool) -> ServerConfiguration:
    """What is kept of a configuration of the Apache HTTP Server."""
    files, loaded = _Files(), tuple(sorted(set(modules)))
    lines = tuple(_apache(nodes, files))
    return ServerConfiguration(
        "", "apache", "", is_whole, tuple(files.numbers), lines, loaded if is_whole and loaded else None
    )


def _apache(nodes: Iterable[ApacheNode], files: _Files) -> Iterator[ConfigurationLine]:
    for node in nodes:
        text = _harmless(node)
        if text is None:
            continue
        number, line = files.number(node.spot.file), node.spot.line
        if not _is_section(node):
            yield ConfigurationLine(node.name, (text,) if text else (), number, line)
            continue
        inner = tuple(_apache(node.inner, files))
        if inner or node.name == "virtualhost":
            yield ConfigurationLine(node.name, (text,) if text else (), number, line, inner)


def not_modelled(configuration: ServerConfiguration) -> Iterator[ConfigurationLine]:
    """The lines that may have a say, and are not carried out: what they can touch depends on them."""
    if configuration.kind == "apache":
        yield from _not_modelled(configuration.lines)


def _not_modelled(lines: Iterable[ConfigurationLine]) -> Iterator[ConfigurationLine]:
    for line in lines:
        if line.inner is not None:
            yield from _not_modelled(line.inner)
        elif not is_carried_out(line.name) and not is_compiled(line.name):
            yield line


def _is_section(node: ApacheNode) -> bool:
    places = ("virtualhost", "directory", "directorymatch", "location", "locationmatch", "proxy", "proxymatch")
    return bool(node.inner) or node.name in SECTIONS or node.name in places


def _harmless(node: ApacheNode) -> str | None:
    """What follows a name without what could be a secret; None for what has no say."""
    name = node.name
    if name in ("proxy", "proxymatch"):
        return None
    if name in ENVIRONMENT:
        return harmless(name, node.text)
    if name in ("addtype", "forcetype") and not is_program("".join(node.words[:1])):
        return None
    if name.removeprefix("php_admin_").removeprefix("php_") in ("flag", "value"):
        return node.text if node.words[:1] == ["engine"] else None
    if _is_section(node) or is_carried_out(name) or not is_of_no_account(name):
        return masked(without_values(name, node.text)) if name != "authname" else MASK
    return None
