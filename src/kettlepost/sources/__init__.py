"""Places an account's folders can be looked at, one module each."""

from __future__ import annotations

from pathlib import Path

from kettlepost.core.budget import Limits
from kettlepost.core.errors import InputError, OutsideError, cause
from kettlepost.core.names import printable, quoted
from kettlepost.core.secrets import masked_address
from kettlepost.core.survey import Source
from kettlepost.sources.file_access import FileAccess, Listed, Refusal, Rename, Trouble
from kettlepost.sources.local import LocalFolder
from kettlepost.sources.remote import RemotePlace, Secrets

__all__ = [
    "FileAccess",
    "Listed",
    "LocalFolder",
    "Refusal",
    "RemotePlace",
    "Rename",
    "Secrets",
    "Trouble",
    "open_files",
    "open_source",
]


def open_source(
    written: str,
    account: str = "",
    home: str | None = None,
    taken: str = "1970-01-01",
    inside: str | None = None,
    secrets: Secrets | None = None,
    limits: Limits | None = None,
) -> Source:
    """The source that `written` names: a folder, an archive, a listing, or a server's address.

    `home` is the account's home on the host and `inside` the folder of an archive or listing
    that is the home, if the user says so; `taken` the day, for listings that leave out the
    year, `limits` what is read of it at the most. Raises InputError when `written` names no source,
    OutsideError when it cannot be read.
    """
    if "://" in written:
        return _open_server(written, secrets or Secrets(lambda _: None), taken, limits)
    path, shown = Path(written), masked_address(written)
    try:
        if "\0" in written or not path.is_file():
            return LocalFolder.open(path)
        with path.open("rb") as file:
            head = file.read(4096)
    except OSError as error:
        raise OutsideError(f"{printable(shown)}: cannot be read ({cause(error)})") from None
    return _open_file(path, head, account, home, taken, inside, limits)


def open_files(source: Source, secrets: Secrets | None = None, taken: str = "1970-01-01") -> FileAccess | None:
    """The files behind a source, to be renamed there; None where there is no way, as for an archive or a listing.

    Raises OutsideError when they cannot be reached, InputError for want of a package or a folder.
    """
    secrets = secrets or Secrets(lambda _: None)
    if isinstance(source, LocalFolder):
        from kettlepost.sources.local_files import LocalFiles

        return LocalFiles(source.path)
    place = getattr(source, "place", None)
    if not isinstance(place, RemotePlace):
        return None
    limits: Limits | None = getattr(source, "limits", None)
    if place.scheme == "sftp":
        from kettlepost.sources.sftp_files import SftpFiles

        return SftpFiles(place, secrets, limits)
    from kettlepost.sources.ftp_files import FtpFiles

    return FtpFiles(place, secrets, taken, limits)


def _open_server(written: str, secrets: Secrets, taken: str, limits: Limits | None) -> Source:
    scheme = written.partition("://")[0].lower()
    if scheme not in ("sftp", "ftp", "ftps"):
        raise InputError(
            f"{quoted(masked_address(written))} is no source: of servers, sftp://, ftp:// and ftps:// can be surveyed"
        )
    place = RemotePlace.parse(written)
    if scheme == "sftp":
        from kettlepost.sources.sftp import SftpFolder

        return SftpFolder(place, secrets, limits)
    from kettlepost.sources.ftp import FtpFolder

    return FtpFolder(place, secrets, taken, limits)


def _open_file(
    path: Path, head: bytes, account: str, home: str | None, taken: str, inside: str | None, limits: Limits | None
) -> Source:
    from kettlepost.sources.archive import ENDINGS, Archive, is_archive
    from kettlepost.sources.grouping import Home
    from kettlepost.sources.listing import ListedFolder, is_listing

    where = Home(printable(path), home, account, inside)
    if is_archive(path):
        return Archive(path, where, limits)
    if is_listing(head):
        return ListedFolder(path, where, taken, limits)
    raise InputError(f"{printable(path)} is neither a folder, an archive ({', '.join(ENDINGS)}) nor a listing")
