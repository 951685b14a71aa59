"""The records of a survey, field for field as its JSON file spells them."""

from __future__ import annotations

from typing import Literal

from msgspec import Struct, field

from kettlepost.core.names import Folder

SAMPLE = 12


class FoundFolder(Struct, omit_defaults=True, gc=False):
    """One folder: what lies directly in it, not below it.

    `names` holds the first few file names in order, so that a person can be told what is
    there; it is complete when it is as long as `files`. Sizes are bytes, `newest` is the
    newest change of a file in seconds since 1970 (UTC), `odd` counts fifos, sockets and devices.
    """

    folder: Folder
    files: int = 0
    bytes: int = 0
    newest: int = 0
    names: list[str] = field(default_factory=list)
    index: list[str] = field(default_factory=list)
    control: list[str] = field(default_factory=list)
    odd: int = 0
    trouble: str = ""


class FoundLink(Struct, omit_defaults=True):
    """A symbolic link: recorded, never followed."""

    folder: Folder
    name: str
    target: str


class FoundPlaceholder(Struct, omit_defaults=True):
    """A page that only holds the place, and by what it was known as one."""

    folder: Folder
    file: str
    kind: str
    because: str


class FoundApplication(Struct, omit_defaults=True):
    """An application, and the files that spoke for it."""

    folder: Folder
    application: str
    evidence: list[str]
    version: str = ""
    version_file: str = ""


class Survey(Struct):
    """What was found in the folders of one account at one moment.

    `taken` is UTC in ISO 8601 form; `source` says where it was looked at.
    """

    kettlepost: Literal[1]
    account: str
    taken: str
    source: str
    folders: list[FoundFolder]
    links: list[FoundLink] = field(default_factory=list)
    placeholders: list[FoundPlaceholder] = field(default_factory=list)
    applications: list[FoundApplication] = field(default_factory=list)

    @property
    def files(self) -> int:
        return sum(folder.files for folder in self.folders)

    @property
    def bytes(self) -> int:
        return sum(folder.bytes for folder in self.folders)

    @property
    def troubles(self) -> list[FoundFolder]:
        """Folders that could not be read, each with the reason."""
        return [folder for folder in self.folders if folder.trouble]
