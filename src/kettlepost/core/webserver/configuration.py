"""What a web server's configuration says, as a part of what was seen: its lines in order, each with where it stands.

It is kept as `servers/NAME.json`, one line of the configuration a line, so that two of them can be compared.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Literal

import msgspec
from msgspec import Struct, field

from kettlepost.core.errors import InputError
from kettlepost.core.names import printable, quoted

LARGEST_CONFIGURATION = 256 * 1024 * 1024
_INDENT = 1


class ConfigurationLine(Struct, frozen=True, array_like=True, omit_defaults=True):
    """A directive with its arguments, or a section with what stands in it.

    `file` is the number of its file among those of the configuration, `line` its line there, from 1. `words` are the
    arguments without their quotes where the server takes them apart itself (nginx), else one text as it is written.
    """

    name: str
    words: tuple[str, ...]
    file: int
    line: int
    inner: tuple[ConfigurationLine, ...] | None = None

    @property
    def text(self) -> str:
        """What stands behind its name."""
        return " ".join(self.words)


class ServerConfiguration(Struct, frozen=True, dict=True):
    """The lines of one server's configuration that have a say, as they were at one moment (ISO 8601, UTC).

    `is_whole` where the server's main file was read, so that what is not said holds as the server is made.
    """

    server: str
    kind: Literal["apache", "nginx"]
    taken: str = ""
    is_whole: bool = False
    files: tuple[str, ...] = ()
    lines: tuple[ConfigurationLine, ...] = ()
    modules: tuple[str, ...] | None = None
    kettlepost: int = 1

    def same(self, other: ServerConfiguration | None) -> bool:
        """Whether another one says the same, whenever it was taken."""
        return other is not None and msgspec.structs.replace(self, taken=other.taken) == other

    def over(self, other: ServerConfiguration | None) -> ServerConfiguration:
        """The two together: of each file, what this one says of it counts; of a server that was read whole, all."""
        if self.is_whole or other is None or other.kind != self.kind:
            return self
        files = (*self.files, *(file for file in other.files if file not in self.files))
        numbers = {number: files.index(file) for number, file in enumerate(other.files)}
        lines: list[ConfigurationLine] = []
        left = list(self.lines)
        for line in other.lines:
            moved = _renumbered(line, numbers)
            here = [one for one in left if one.file == moved.file]
            if moved.file >= len(self.files):
                lines.append(moved)
            elif here:  # in the place of what the file said before
                lines += here
                left = [one for one in left if one.file != moved.file]
        return msgspec.structs.replace(
            self, files=files, lines=(*lines, *left), is_whole=other.is_whole, modules=other.modules
        )

    def spot(self, line: ConfigurationLine) -> tuple[str, int]:
        """The file and the line at which one stands."""
        return self.files[line.file], line.line


def _renumbered(line: ConfigurationLine, numbers: Mapping[int, int]) -> ConfigurationLine:
    inner = tuple(_renumbered(one, numbers) for one in line.inner) if line.inner is not None else None
    return ConfigurationLine(line.name, line.words, numbers[line.file], line.line, inner)


class _StoredConfiguration(Struct):
    server: str
    kind: Literal["apache", "nginx"]
    taken: str
    is_whole: bool
    files: tuple[str, ...]
    modules: tuple[str, ...] | None = None
    lines: list[tuple[int, str, tuple[str, ...], int, int, bool]] = field(default_factory=list)
    kettlepost: int = 1


_DECODER = msgspec.json.Decoder(_StoredConfiguration)


def encode_configuration(configuration: ServerConfiguration) -> bytes:
    """It as JSON: a head, then a line each: how deep it stands, name, words, file, line, whether it is a section."""
    head = {
        "kettlepost": configuration.kettlepost, "server": configuration.server, "kind": configuration.kind,
        "taken": configuration.taken, "is_whole": configuration.is_whole, "modules": configuration.modules,
        "files": configuration.files,
    }  # fmt: skip
    encode = msgspec.json.encode
    rows = b",".join(b"\n" + encode(row) for row in _rows(configuration.lines, 0))
    return encode(head)[:-1] + b',\n"lines":[' + rows + b"\n]}\n"


def _rows(lines: Iterable[ConfigurationLine], depth: int) -> Iterator[tuple[object, ...]]:
    for line in lines:
        yield depth, line.name, line.words, line.file, line.line, line.inner is not None
        if line.inner:
            yield from _rows(line.inner, depth + 1)


def decode_configuration(raw: bytes, name: str, server: str) -> ServerConfiguration:
    """What the file called `name` holds. Raises InputError when it is none of that server."""
    try:
        head = _DECODER.decode(raw)
        lines, end = _nested(head.lines, 0, 0)
    except (msgspec.MsgspecError, ValueError, RecursionError, IndexError) as error:
        text = f"{printable(name)}: not a server's configuration ({printable(str(error))}); read it in again"
        raise InputError(text) from None
    if head.server != server or head.kettlepost != 1 or end != len(head.lines):
        raise InputError(f"{printable(name)}: of server {quoted(head.server)}, not of {quoted(server)}")
    if any(not 0 <= row[3] < len(head.files) for row in head.lines):
        raise InputError(f"{printable(name)}: lines of files that it does not name; read it in again")
    return ServerConfiguration(head.server, head.kind, head.taken, head.is_whole, head.files, lines, head.modules)


_Row = tuple[int, str, tuple[str, ...], int, int, bool]


def _nested(rows: Sequence[_Row], at: int, depth: int) -> tuple[tuple[ConfigurationLine, ...], int]:
    """The lines from one on that stand so deep, with what is in them, and where they end."""
    found: list[ConfigurationLine] = []
    while at < len(rows) and rows[at][0] == depth:
        _, name, words, file, line, is_section = rows[at]
        inner, at = _nested(rows, at + 1, depth + 1) if is_section else (None, at + 1)
        found.append(ConfigurationLine(name, words, file, line, inner))
    return tuple(found), at
