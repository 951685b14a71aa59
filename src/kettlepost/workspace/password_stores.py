"""Where passwords are kept: a KDBX file, or the system's keyring. Nothing of them is ever kept here."""

from __future__ import annotations

import io
import os
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any, Protocol

from kettlepost.core.errors import InputError, KettlepostError, OutsideError, cause
from kettlepost.core.names import printable, quoted
from kettlepost.core.remedies import Do, Remedy
from kettlepost.workspace.files import write_whole
from kettlepost.workspace.plan_folder import PlanFolder

Phrase = Callable[[str], str | None]
"""Gives the pass phrase of a file, told what for; None where there is none to be had."""
_SERVICE = "kettlepost"


class PasswordStore(Protocol):
    """Passwords by the titles of their entries; each call may raise InputError or OutsideError."""

    name: str

    def get(self, title: str) -> str | None: ...

    def put(self, title: str, password: str, user: str, address: str, group: str) -> None: ...


def store_name(plan: PlanFolder) -> str | None:
    """Where the plan says that passwords are kept; None where it does not say."""
    return plan.shared.settings.settings.passwords_in


def open_store(plan: PlanFolder, phrase: Phrase | None = None, makes: bool = False) -> PasswordStore:
    """The store that the settings name; `makes` says that a file which is not there is begun.

    Raises InputError where none is named, it lies in the plan folder, or it cannot be opened.
    """
    settings = plan.shared.settings.settings
    where = settings.passwords_in
    if where is None:
        raise InputError("no place is set where passwords are kept", Remedy(Do.SET_PASSWORDS_IN))
    if where == "keyring":
        return _Keyring()
    path = _outside(plan, where)
    key = _outside(plan, settings.passwords_key) if settings.passwords_key is not None else None
    return _Kdbx(path, key, phrase or (lambda _: None), makes)


def _outside(plan: PlanFolder, written: str) -> Path:
    """A file that is named in the settings. Raises InputError where it lies in the plan folder, which others read."""
    path = Path(written).expanduser()
    path = path if path.is_absolute() else plan.path / path
    real = Path(os.path.realpath(path))
    if real.is_relative_to(os.path.realpath(plan.path)):
        raise InputError(
            f"{quoted(written)} lies in the plan folder, which is kept under version control and shared: passwords "
            "do not belong there; name a file elsewhere, such as ~/fernhollow.kdbx"
        )
    return Path(os.path.normpath(path))


class _Kdbx:
    """A KDBX file (version 4, as the password managers that are about open it)."""

    def __init__(self, path: Path, key: Path | None, phrase: Phrase, makes: bool):
        self.name = printable(path)
        self._path = path
        with _told(self.name):
            from pykeepass import PyKeePass, create_database

            is_new = not path.exists()
            if is_new and not makes:
                raise InputError(f"{self.name} is not there", Remedy.of(Do.MAKE_PASSWORD, "ADDRESS"))
            asked = f"New pass phrase of {self.name}" if is_new else f"Pass phrase of {self.name}"
            given = phrase(asked)
            if given is None and key is None:
                raise InputError(f"{self.name} wants a pass phrase, and there is nobody to ask", Remedy(Do.GIVE_PHRASE))
            words: dict[str, Any] = {"password": given, "keyfile": str(key) if key is not None else None}
            if not is_new:
                self._stamp = self._seen()
                self._file = PyKeePass(str(path), **words)
                return
            begun = io.BytesIO()
            self._file = create_database(begun, **words)
            write_whole(path, begun.getvalue(), mode=0o600)
            self._stamp = self._seen()

    def get(self, title: str) -> str | None:
        with _told(self.name):
            found = self._entry(title)
            return found.password if found is not None else None

    def put(self, title: str, password: str, user: str, address: str, group: str) -> None:
        with _told(self.name):
            if self._seen() != self._stamp:
                raise OutsideError(f"{self.name} was changed by somebody else meanwhile; try again")
            entry = self._entry(title)
            if entry is not None:
                entry.save_history()
                entry.password, entry.username = password, user
            else:
                top = self._file.root_group
                own = next((one for one in top.subgroups if one.name == group), None)
                own = own if own is not None else self._file.add_group(top, group)
                entry = self._file.add_entry(own, "new", "", password, f"https://{address}", force_creation=True)
                entry.title, entry.username = title, user  # afterwards, as above
            whole = io.BytesIO()
            self._file.save(whole)
            write_whole(self._path, whole.getvalue())
            self._stamp = self._seen()

    def _entry(self, title: str) -> Any:
        """The entry of a title that was not thrown away."""
        away = self._file.recyclebin_group
        for one in self._file.entries or ():  # which its own search would put into a query, whatever is in the title
            if one.title == title and (away is None or one.group is None or one.group.uuid != away.uuid):
                return one
        return None

    def _seen(self) -> tuple[int, int, int]:
        known = self._path.stat()
        return known.st_mtime_ns, known.st_size, known.st_ino


class _Keyring:
    """The keyring of the system."""

    name = "the keyring"

    def get(self, title: str) -> str | None:
        with _told(self.name):
            import keyring

            found: str | None = keyring.get_password(_SERVICE, title)
            return found

    def put(self, title: str, password: str, user: str, address: str, group: str) -> None:  # noqa: ARG002 (it keeps a title alone)
        with _told(self.name):
            import keyring

            keyring.set_password(_SERVICE, title, password)


@contextmanager
def _told(name: str) -> Iterator[None]:
    """What goes wrong in a store, in words that hold nothing of what is in it."""
    try:
        yield
    except ImportError:
        raise InputError(f"{name} wants one more package", Remedy.of(Do.ADD_EXTRA, "passwords")) from None
    except KettlepostError:
        raise
    except OSError as error:
        raise OutsideError(f"{name}: cannot be read or written ({cause(error)})") from None
    except Exception as error:
        module = type(error).__module__.partition(".")[0]
        if module not in ("keyring", "pykeepass", "construct", "lxml"):
            raise
        if module == "keyring":
            raise OutsideError(f"{name}: it is locked, or there is none on this system") from None
        if type(error).__name__ == "CredentialsError":
            raise OutsideError(f"{name}: the pass phrase or the key file is wrong") from None
        raise OutsideError(f"{name}: it is damaged, or no KDBX file") from None
