"""Passwords as far as they are shown: titles, states, and one that was made where nothing keeps it."""

from __future__ import annotations

import msgspec

from kettlepost.core.quoting.csv import Csv
from kettlepost.core.quoting.markdown import Markdown
from kettlepost.render.json import document
from kettlepost.render.results import PasswordsChecked, PasswordTitles, Register
from kettlepost.render.screen import Screen
from kettlepost.render.tables import register_csv, register_markdown, show_records
from kettlepost.workspace.passwords import PasswordState

_COLUMNS = ("account", "address", "purpose", "title", "user")


class TitleRow(msgspec.Struct):
    """An entry in one row."""

    account: str
    address: str
    purpose: str
    title: str
    user: str


def show_titles(screen: Screen, shown: PasswordTitles) -> None:
    show_records(screen, _COLUMNS, _rows(shown), counts=False)


def titles_json(shown: PasswordTitles) -> str:
    return document({"passwords": [msgspec.to_builtins(row) for row in _rows(shown)]})


def titles_csv(shown: PasswordTitles) -> Csv:
    return register_csv(Register("passwords", _COLUMNS, _rows(shown)))


def titles_markdown(shown: PasswordTitles) -> Markdown:
    return register_markdown(Register("passwords", _COLUMNS, _rows(shown)))


def show_checked(screen: Screen, shown: PasswordsChecked) -> None:
    show_records(screen, PasswordState.__struct_fields__, shown.states, counts=False)


def checked_json(shown: PasswordsChecked) -> str:
    return document({"passwords": [msgspec.to_builtins(state) for state in shown.states]})


def _rows(shown: PasswordTitles) -> list[TitleRow]:
    return [TitleRow(one.account, one.address, one.purpose, one.title, one.user) for one in shown.entries]
