"""Ways out that ask visitors for a password: in a control file where the server obeys one."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from kettlepost.core.layout import AccountLayout, FolderState
from kettlepost.core.names import HOME, Folder
from kettlepost.core.quoting.apache import in_quotes
from kettlepost.core.rules.ways_out import lines_in, numbered
from kettlepost.core.steps import MakePasswordFile, ProtectFolder, Step


def protecting(layout: AccountLayout, folder: Folder, files: Sequence[str] = ()) -> list[Step]:
    """Ask for a password at a folder, wherever it is reached; for some of its `files` alone where they are named.

    The lines are those of HTTP's basic authentication (mod_auth_basic, mod_authz_user). Where no home is written down,
    or the server obeys no control file, that is left to whoever knows how.
    """
    home = layout.account.settings.home
    if home is None or not layout.obeys_control_files or layout.mounts.get(HOME):
        return [ProtectFolder(layout.name, folder, tuple(files))]
    state = FolderState(layout, "now")
    name = next(
        name for name in numbered((users_file(folder),)) if not state.has(HOME, name)
    )  # others' users are in one that is there
    path = f"{home.rstrip('/')}/{name}"
    lines = asking_for_users(layout, folder, path)
    written = [line for name in files for line in _for_file(name, lines)] if files else lines
    return [MakePasswordFile(layout.name, path), *lines_in(layout, folder, written)]


def asking_for_users(layout: AccountLayout, folder: Folder, path: str) -> list[str]:
    """The lines that ask for a password of those in a file."""
    return [
        "AuthType Basic", f"AuthName {in_quotes(folder.name or layout.name)}", f"AuthUserFile {in_quotes(path)}",
        "Require valid-user",
    ]  # fmt: skip


def users_file(folder: Folder) -> str:
    """What the file with the users of a folder is called, in the home; a number follows where there is one already."""
    return f".htpasswd-{str(folder).replace('/', '-') or 'home'}"


def _for_file(name: str, lines: Sequence[str]) -> Iterator[str]:
    yield f"<Files {in_quotes(name)}>"
    yield from lines
    yield "</Files>"
