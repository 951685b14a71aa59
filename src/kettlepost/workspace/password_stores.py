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
from kettlepost.core.remedies import Action, Remedy
from kettlepost.workspace.files import own_folder, remove, write_new, write_whole
from kettlepost.workspace.plan_folder import PlanFolder

Phrase = Callable[[str], str | None]
"""Gives the pass phrase of a file, told what for; None where there is none to be had."""
_SERVICE = "kettlepost"
_PATIENCE = 120.0
"""How many seconds a run waits for others that keep passwords in the same place."""
_STRONG, _LONGEST_JUDGED = 3, 72
"""Of the grades 0 to 4 of zxcvbn the first that takes long to guess, and of how many letters at most it judges."""


class PasswordStore(Protocol):
    """Passwords by the titles of their entries; each call may raise InputError or OutsideError.

    `told` is what whoever keeps passwords there is to know. Nobody else can write to one that was opened to be
    written to, until it is closed.
    """

    name: str
    told: str

    def get(self, title: str) -> str | None: ...

    def put(self, title: str, password: str, user: str, address: str, group: str) -> None:
        """Keep a password, and see by reading it again that it is kept."""
        ...

    def close(self) -> None: ...


def store_name(plan: PlanFolder) -> str | None:
    """Where the plan says that passwords are kept; None where it does not say."""
    return plan.shared.settings.settings.passwords_in


def open_store(plan: PlanFolder, phrase: Phrase | None = None, writes: bool = False) -> PasswordStore:
    """The store that the settings name; `writes` says that it is to be written to, and begun where it is not there.

    Raises InputError where none is named, it lies in the plan folder, or it cannot be opened.
    """
    settings = plan.shared.settings.settings
    where = settings.passwords_in
    if where is None:
        raise InputError("no place is set where passwords are kept", Remedy(Action.SET_PASSWORDS_IN))
    if where == "keyring":
        return _Keyring(_Lock(own_folder(plan.path) / "keyring.lock") if writes else None)
    path = _outside(plan, where)
    key = _outside(plan, settings.passwords_key) if settings.passwords_key is not None else None
    return _Kdbx(path, key, phrase or (lambda _: None), writes)


class _Lock:
    """Keeps other runs of the program from writing to a store, until it is let go."""

    def __init__(self, path: Path):
        import filelock

        self._lock = filelock.FileLock(path, timeout=_PATIENCE, mode=0o600)
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            self._lock.acquire()
        except filelock.Timeout:
            raise OutsideError(f"{printable(path)}: another kettlepost has been keeping passwords for long") from None

    def release(self) -> None:
        self._lock.release()


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
    """A KDBX file (version 4, as the password managers that are about open it).

    To be written to it is read under a lock beside it, and replaced as a whole; what other programs have written
    meanwhile is seen, and not lost.
    """

    def __init__(self, path: Path, key: Path | None, phrase: Phrase, writes: bool):
        self.name, self.told = printable(path), ""
        self._path, self._lock = path, None  # type: Path, _Lock | None
        is_new = not path.exists()
        if is_new and not writes:
            raise InputError(f"{self.name} is not there", Remedy.of(Action.MAKE_PASSWORD, "ADDRESS"))
        given = phrase(f"New pass phrase of {self.name}" if is_new else f"Pass phrase of {self.name}")
        if given is None and key is None:
            raise InputError(f"{self.name} wants a pass phrase, and there is nobody to ask", Remedy(Action.GIVE_PHRASE))
        if given == "":
            raise InputError(f"{self.name}: an empty pass phrase opens it to everybody", Remedy(Action.GIVE_PHRASE))
        if given is not None and writes and key is None and _can_be_guessed(given):
            self.told = (
                f"the pass phrase of {self.name} can be guessed, and with it every password in it: take a longer one"
            )
        self._words: dict[str, Any] = {"password": given, "keyfile": str(key) if key is not None else None}
        try:
            with _told(self.name):
                if writes:  # not before somebody has typed
                    self._lock = _Lock(path.with_name(f"{path.name}.lock"))
                self._read()
        except BaseException:
            self.close()
            raise

    def _read(self) -> None:
        from pykeepass import PyKeePass, create_database

        self._before = self._path.read_bytes() if self._path.exists() else None
        if self._before is not None:
            self._file = PyKeePass(io.BytesIO(self._before), **self._words)
        else:
            self._file = create_database(io.BytesIO(), **self._words)

    def close(self) -> None:
        if self._lock is not None:
            self._lock.release()
            self._lock = None

    def get(self, title: str) -> str | None:
        with _told(self.name):
            found = self._entry(title)
            return found.password if found is not None else None

    def put(self, title: str, password: str, user: str, address: str, group: str) -> None:
        with _told(self.name):
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
            if self._before is None:
                write_new(self._path, whole.getvalue())
            else:
                if self._path.read_bytes() != self._before:
                    raise OutsideError(f"{self.name} was changed by another program meanwhile; try again")
                write_whole(self._path, whole.getvalue())
            self._see_it_is_kept(title, password, self._before)

    def _see_it_is_kept(self, title: str, password: str, before: bytes | None) -> None:
        """Read the file again; where that does not give the password, it is as it was before."""
        try:
            self._read()
            found = self._entry(title)
            if found is not None and found.password == password:
                return
        except Exception:  # noqa: S110 (whatever it is, the file is of no use)
            pass
        write_whole(self._path, before) if before is not None else remove(self._path)
        raise OutsideError(f"{self.name}: what was written could not be read again, so it is as it was")

    def _entry(self, title: str) -> Any:
        """The entry of a title that was not thrown away."""
        away = self._file.recyclebin_group
        for one in self._file.entries or ():  # which its own search would put into a query, whatever is in the title
            if one.title == title and (away is None or one.group is None or one.group.uuid != away.uuid):
                return one
        return None


class _Keyring:
    """The keyring of the system."""

    name = "the keyring"
    told = ""

    def __init__(self, lock: _Lock | None):
        self._lock = lock

    def close(self) -> None:
        if self._lock is not None:
            self._lock.release()

    def get(self, title: str) -> str | None:
        with _told(self.name):
            import keyring

            found: str | None = keyring.get_password(_SERVICE, title)
            return found

    def put(self, title: str, password: str, user: str, address: str, group: str) -> None:  # noqa: ARG002 (it keeps a title alone)
        with _told(self.name):
            import keyring

            keyring.set_password(_SERVICE, title, password)
        if self.get(title) != password:
            raise OutsideError(f"{self.name}: what was written could not be read again")


def _can_be_guessed(phrase: str) -> bool:
    """Whether guessing gets through to a pass phrase; False where nothing can tell."""
    try:
        from zxcvbn import zxcvbn
    except ImportError:
        return False
    return int(zxcvbn(phrase[:_LONGEST_JUDGED])["score"]) < _STRONG


@contextmanager
def _told(name: str) -> Iterator[None]:
    """What goes wrong in a store, in words that hold nothing of what is in it."""
    try:
        yield
    except ImportError:
        raise InputError(f"{name} wants one more package", Remedy.of(Action.ADD_EXTRA, "passwords")) from None
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
