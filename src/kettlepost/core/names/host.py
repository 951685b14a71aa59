"""Host names: RFC 1123 section 2.1, with RFC 5890 (IDNA) for names beyond ASCII."""

from __future__ import annotations

import ipaddress
import re
from collections.abc import Iterator
from functools import lru_cache

from kettlepost.core.names.international import spelt
from kettlepost.core.names.written import InvalidName, quoted
from kettlepost.core.secrets import masked_address

_LABEL = r"[a-z0-9](?:[a-z0-9-]{0,61}[a-z0-9])?"
_NORMAL = re.compile(rf"(?:\*\.)?(?:{_LABEL}\.)*{_LABEL}")


class HostName(str):
    """A host name in normal form: lower case, A-labels, no trailing dot.

    It is its own text, so it compares, sorts and hashes as that. A first label `*` makes it
    a wildcard (RFC 4592), which stands for every name below the rest that has no nearer one.
    """

    __slots__ = ()

    @classmethod
    def parse(cls, written: str) -> HostName:
        """Read a host name as people write it (`Münzen.Example.` is `xn--mnzen-kva.example`).

        Raises InvalidName when it is no host name by RFC 1123, RFC 5890 or RFC 5891.
        """
        return _parse(written)

    @property
    def labels(self) -> list[str]:
        return self.split(".")

    @property
    def parent(self) -> HostName | None:
        """The name one level up, or None for a single label."""
        _, dot, rest = self.partition(".")
        return HostName(rest) if dot else None

    def above(self) -> Iterator[HostName]:
        """Every name this one lies below, nearest first: of `a.b.example` first `b.example`, then `example`."""
        name = self.parent
        while name is not None:
            yield name
            name = name.parent

    @property
    def words(self) -> str:
        """The label that carries the meaning: `lanternchoir` in `lanternchoir.example`."""
        return self.labels[1] if self.startswith(("www.", "*.")) and len(self.labels) > 2 else self.labels[0]

    @property
    def spelt(self) -> str:
        """The same in letters of ASCII, for a folder or a database: `muenzen` in `münzen.example`."""
        return spelt(self.words)


@lru_cache(maxsize=8192)  # a plan names each of its hosts several times, close together
def _parse(written: str) -> HostName:
    if _NORMAL.fullmatch(written) and len(written) <= 253 and "--" not in written:
        return HostName(written)
    return HostName(_normal(written))


def _normal(written: str) -> str:
    import idna  # only names that are not already in normal form need it

    bare = written[:-1] if written.endswith((".", "。")) else written
    star, bare = ("*.", bare[2:]) if bare.startswith("*.") else ("", bare)
    if not bare:
        raise InvalidName("a host name is empty; write one such as example.org")
    if len(bare) > 1000:
        raise InvalidName(f"{_shown(bare)} is no host name: longer than 253 characters")
    if "/" in bare or ":" in bare or "@" in bare:
        raise InvalidName(f"{_shown(written)} is no host name; write the name alone, without scheme, port or path")
    try:
        if bare.isascii() and "xn--" not in bare.lower():
            normal = bare.lower()  # plain labels may hold hyphens in places 3 and 4, which IDNA reserves
        else:
            normal = idna.encode(bare, uts46=True).decode("ascii")
            idna.decode(normal)
    except (idna.IDNAError, UnicodeError) as error:
        raise InvalidName(f"{_shown(written)} is no host name: {error}") from None
    if len(normal) > 253:
        raise InvalidName(f"{_shown(written)} is no host name: longer than 253 characters")
    if not _NORMAL.fullmatch(normal):
        raise InvalidName(
            f"{_shown(written)} is no host name: each label is 1 to 63 letters, digits and hyphens, "
            "with no hyphen first or last"
        )
    return star + normal


def _shown(written: str) -> str:
    return quoted(masked_address(written))


def is_ip(written: str) -> bool:
    """Whether it is an address of IPv4 or IPv6, as RFC 4291 and its kin write them."""
    try:
        ipaddress.ip_address(written)
    except ValueError:
        return False
    return True
