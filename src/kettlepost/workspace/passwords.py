"""Passwords: made, kept where the settings say, shown to whoever asks, and looked at whether they can be guessed."""

from __future__ import annotations

import secrets
from collections.abc import Iterator
from contextlib import closing
from typing import NamedTuple

from msgspec import Struct

from kettlepost.core.databases import PasswordEntry, Purpose, new_password, password_entries
from kettlepost.core.errors import InputError, KettlepostError
from kettlepost.core.layout import AccountLayout
from kettlepost.core.names import quoted
from kettlepost.core.plan import Installation
from kettlepost.core.remedies import Action, Remedy
from kettlepost.core.work import password_id
from kettlepost.workspace.installations import installation_at, installations_of
from kettlepost.workspace.password_stores import Phrase, open_store, store_name
from kettlepost.workspace.plan_folder import PlanFolder
from kettlepost.workspace.work import say_kept

_STRONG = 4
"""Of the five grades of zxcvbn, that which no guessing gets through to in a useful time."""
_LONGEST_JUDGED = 72


class MadePassword(NamedTuple):
    """A password that was made. `kept` is the store it is in; where that is empty it is shown, and kept nowhere.

    `told` is what whoever keeps passwords there is to know.
    """

    entry: PasswordEntry
    password: str
    kept: str
    told: str = ""


class PasswordState(Struct):
    """Whether a password is kept, and whether it can be guessed: `grade` is 0 to 4, None where there is none."""

    account: str
    address: str
    purpose: str
    title: str
    user: str
    state: str
    grade: int | None = None


def make_password(
    plan: PlanFolder, address: str, purpose: Purpose, account: str | None = None, phrase: Phrase | None = None,
    again: bool = False, may_show: bool = False,
) -> MadePassword:  # fmt: skip
    """Make a password, and keep it where the settings say. One that is kept already stays, but with `again`.

    Where nothing is set, it is given to whoever `may_show` it to a person. Raises InputError, OutsideError.
    """
    if store_name(plan) is None and not may_show:
        why = "no place is set where passwords are kept, and this is no terminal to show one on"
        raise InputError(why, Remedy(Action.SET_PASSWORDS_IN))
    installation, entry = _entry(plan, address, purpose, account)
    made = new_password(entry.longest, secrets.choice, secrets.SystemRandom().shuffle)
    if store_name(plan) is None:
        return MadePassword(entry, made, "")
    with closing(open_store(plan, phrase, writes=True)) as store:
        if not again and store.get(entry.title) is not None:
            raise InputError(
                f"{quoted(entry.title)} has a password already, in {store.name}", Remedy(Action.MAKE_ANOTHER)
            )
        store.put(entry.title, made, entry.user, entry.address, entry.account)
        told = [store.told] if store.told else []
        if installation.state == "planned":
            try:
                say_kept(plan, password_id(entry.account, installation.address, purpose), store.name)
            except KettlepostError as error:
                told.append(f"that could not be written into the work list: {error}")
        return MadePassword(entry, made, store.name, "; ".join(told))


def kept_password(
    plan: PlanFolder, address: str, purpose: Purpose, account: str | None = None, phrase: Phrase | None = None
) -> str:
    """The password that is kept. Raises InputError where there is none."""
    _, entry = _entry(plan, address, purpose, account)
    found = open_store(plan, phrase).get(entry.title)
    if found is None:
        raise InputError(
            f"no password is kept under {quoted(entry.title)}",
            Remedy.of(Action.MAKE_PASSWORD, str(address), "--for", purpose),
        )
    return found


def password_titles(plan: PlanFolder, what: str | None = None, account: str | None = None) -> list[PasswordEntry]:
    """The entries of everything that wants a password; no store is opened."""
    return [entry for _, _, entry in _entries(plan, what, account)]


def check_passwords(
    plan: PlanFolder, what: str | None = None, account: str | None = None, phrase: Phrase | None = None
) -> list[PasswordState]:
    """Whether there is a password for each thing that wants one, and whether it can be guessed."""
    wanted = list(_entries(plan, what, account))
    store = open_store(plan, phrase)
    return [_state(layout, installation, entry, store.get(entry.title)) for layout, installation, entry in wanted]


def _state(
    layout: AccountLayout, installation: Installation, entry: PasswordEntry, password: str | None
) -> PasswordState:
    state = PasswordState(entry.account, entry.address, entry.purpose, entry.title, entry.user, "missing")
    if password is None:
        return state
    try:
        from zxcvbn import zxcvbn
    except ImportError:
        lacks = "how strong a password is wants one more package"
        raise InputError(lacks, Remedy.of(Action.ADD_EXTRA, "passwords")) from None
    known = [entry.user, *entry.address.replace("/", ".").split("."), layout.name, layout.account.settings.client or "",
             installation.application, installation.contact or ""]  # fmt: skip
    state.grade = int(zxcvbn(password[:_LONGEST_JUDGED], user_inputs=[word for word in known if word])["score"])
    state.state = "kept" if state.grade >= _STRONG else "guessable"
    if len(password) > entry.longest:
        state.state = "too long"
    return state


def _entry(plan: PlanFolder, address: str, purpose: Purpose, account: str | None) -> tuple[Installation, PasswordEntry]:
    layout, installation = installation_at(plan, address, account)
    application = layout.plan.applications.get(installation.application)
    for entry in password_entries(layout.account, installation, application):
        if entry.purpose == purpose:
            return installation, entry
    raise InputError(f"{installation.application} at {installation.address} has no database in the plan")


def _entries(
    plan: PlanFolder, what: str | None, account: str | None
) -> Iterator[tuple[AccountLayout, Installation, PasswordEntry]]:
    for layout, installations in installations_of(plan, what, account):
        for installation in installations:
            if installation.state != "retired":
                application = layout.plan.applications.get(installation.application)
                for entry in password_entries(layout.account, installation, application):
                    yield layout, installation, entry
