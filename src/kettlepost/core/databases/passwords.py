"""Which passwords an installation wants, and the titles of the entries that keep them; no password itself."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Literal, NamedTuple

from kettlepost.core.names import printable
from kettlepost.core.plan import Account, Application, Installation

Purpose = Literal["admin", "database"]
PURPOSES: tuple[Purpose, ...] = ("admin", "database")
LENGTH = 24
SHORTEST = 8
LETTERS = "abcdefghijkmnopqrstuvwxyz"
CAPITALS = "ABCDEFGHJKLMNPQRSTUVWXYZ"
DIGITS = "23456789"
MARKS = "-_."
"""Characters that URLs, shells, SQL, PHP and the files of database clients take as they are; none looks like another.
"""


class PasswordEntry(NamedTuple):
    """An entry of a password store: what it is called, for whom it is, and how long its password may be."""

    account: str
    address: str
    purpose: Purpose
    title: str
    user: str
    longest: int


def password_entries(
    account: Account, installation: Installation, application: Application | None
) -> Iterator[PasswordEntry]:
    """One for each thing of an installation that wants a password."""
    address = printable(str(installation.address))
    longest = application.longest_password if application is not None else None
    yield PasswordEntry(
        account.name, address, "admin", installation.admin_entry or f"{address} (admin)",
        installation.admin_user or "", longest or LENGTH * 4,
    )  # fmt: skip
    base = installation.database
    if base is not None and account.settings.database_server != "sqlite":
        user = base.user or base.name
        yield PasswordEntry(account.name, address, "database", installation.database_entry, user, LENGTH * 4)


def new_password(
    longest: int, choose: Callable[[str], str], shuffle: Callable[[list[str]], None], length: int = LENGTH
) -> str:
    """A password with each kind of character in it, which begins and ends with a letter or digit.

    `choose` picks one of some characters and `shuffle` puts a list out of order, both so that nobody can foretell it.
    Raises ValueError where it would be too short to be one.
    """
    length = min(length, longest)
    if length < SHORTEST:
        raise ValueError(f"a password of {length} characters can be guessed")
    plain = LETTERS + CAPITALS + DIGITS
    middle = [choose(LETTERS), choose(CAPITALS), choose(DIGITS), choose(MARKS)]
    middle += [choose(plain) for _ in range(length - 2 - len(middle))]
    shuffle(middle)
    return "".join((choose(plain), *middle, choose(plain)))
