"""The records of a survey, field for field as its JSON file spells them."""

from __future__ import annotations

import hashlib
from typing import Literal

from msgspec import Struct, field

from kettlepost.core.messages import Words, say
from kettlepost.core.names import Folder, printable

SAMPLE = 6


class FoundFolder(Struct, omit_defaults=True, gc=False):
    """One folder: what lies directly in it, not below it.

    `names` holds the first few file names in order, so that a person can be told what is
    there; it is complete when it is as long as `files`. Sizes are bytes, `newest` is the
    newest change of a file in seconds since 1970 (UTC), `odd` counts fifos, sockets and devices,
    `unnamed` what lies in or below it under a path that no plan can name.
    """

    folder: Folder
    files: int = 0
    bytes: int = 0
    newest: int = 0
    names: tuple[str, ...] = ()
    index: tuple[str, ...] = ()
    control: tuple[str, ...] = ()
    odd: int = 0
    trouble: str = ""
    unnamed: int = 0

    @property
    def trouble_words(self) -> Words:
        """What of it could not be read; empty when all could."""
        told = printable(self.trouble)
        if not self.unnamed:
            return told
        return say("survey/unnamed", trouble=f"{told}; " if told else None, number=self.unnamed)


class FoundLink(Struct, omit_defaults=True):
    """A symbolic link: recorded, never followed. `own` is true for one in an application's own folders."""

    folder: Folder
    name: str
    target: str
    own: bool = False


class FoundPlaceholder(Struct, omit_defaults=True):
    """A page that only holds the place, and by what it was known as one.

    `perhaps` is true where not enough speaks for it: such a page counts as one of its own, to be looked at.
    """

    folder: Folder
    file: str
    kind: str
    because: str
    perhaps: bool = False

    @property
    def words(self) -> Words:
        """By what it was known, and that it is to be looked at where that is not sure."""
        because = printable(self.because)
        return say("survey/perhaps-placeholder", because=because) if self.perhaps else because


class FoundPage(Struct, omit_defaults=True, gc=False):
    """An index page without a program in it, as it lies there: its size in bytes, and its digest (see `page_digest`).

    By these it is known again when a server shows it.
    """

    folder: Folder
    file: str
    size: int
    digest: str


def page_digest(page: bytes) -> str:
    """What tells a page's bytes from all others: BLAKE2b (RFC 7693) of 16 bytes, in hexadecimal."""
    return hashlib.blake2b(page, digest_size=16).hexdigest()


class FoundDatabase(Struct, omit_defaults=True):
    """What a configuration file says of the database; never a password."""

    name: str = ""
    user: str = ""
    host: str = ""
    prefix: str = ""


Condition = Literal["", "copy", "incomplete", "not set up"]
_CONDITIONS = {"copy": "put aside as a copy", "incomplete": "half-finished", "not set up": "never set up"}


class FoundApplication(Struct, omit_defaults=True):
    """An application, and the files that spoke for it.

    `condition` is empty for one that is in use as far as files tell: "copy" stands for one
    kept under a name such as `old` beside another of its kind, "incomplete" for a half-finished
    upload (`missing` names what is not there), "not set up" for one without its configuration
    file. `leftovers` are files of its installer that are to be removed once it is set up, `address`
    is where its configuration says that it is. `perhaps` is true where no real release was held against
    the entry by which it is known. `folder` is the one that a document root leads to; where that is one
    inside of its files, `around` is the folder in which they lie.
    """

    folder: Folder
    application: str
    evidence: list[str]
    version: str = ""
    version_file: str = ""
    condition: Condition = ""
    missing: list[str] = field(default_factory=list)
    database: FoundDatabase | None = None
    leftovers: list[str] = field(default_factory=list)
    address: str = ""
    perhaps: bool = False
    around: Folder | None = None

    @property
    def known_by(self) -> str:
        """A file by which it was known; empty where none was kept."""
        return self.evidence[0] if self.evidence else ""

    @property
    def base(self) -> Folder:
        """The folder in which its files lie."""
        return self.around if self.around is not None else self.folder

    def words(self, title: str) -> str:
        """`Quillmoor 4.8.2 (put aside as a copy)`; `title` is the application's."""
        name = " ".join(filter(None, ("perhaps" if self.perhaps else "", title, printable(self.version))))
        return f"{name} ({_CONDITIONS[self.condition]})" if self.condition else name


class FoundSite(Struct, omit_defaults=True):
    """A site no catalogue entry knows, by its kind: `static site`, `Node application`, ..."""

    folder: Folder
    kind: str
    evidence: list[str]


class Effect(Struct, omit_defaults=True):
    """One thing a control file does: where it says so, and to what."""

    does: str
    line: int = 0
    what: str = ""


class FoundControl(Struct, omit_defaults=True):
    """A control file and what it does that matters for planning.

    `lines` are those of an `.htaccess` that have a say in what answers, each behind its number.
    `own` is true for one in an application's own folders, which came with it most likely.
    """

    folder: Folder
    file: str
    effects: list[Effect] = field(default_factory=list)
    lines: list[str] = field(default_factory=list)
    own: bool = False


class FoundExposed(Struct, omit_defaults=True):
    """Something under a document root that should not be there: path and kind, never content."""

    folder: Folder
    name: str
    kind: str


OddityKind = Literal[
    "unprintable name", "space in the name", "capitals in the name", "letters beyond ASCII in the name",
    "differs by case only", "differs by Unicode form only",
]  # fmt: skip
_TWINS = {"differs by case only": "survey/by-case", "differs by Unicode form only": "survey/by-unicode-form"}


class FoundOddity(Struct, omit_defaults=True):
    """A name that makes trouble; `twin` is the other of two that are easily taken for one."""

    folder: Folder
    name: str
    kind: OddityKind
    twin: str = ""

    @property
    def words(self) -> Words:
        """What is odd about it, with the name it is easily taken for."""
        told = _TWINS.get(self.kind)
        return say(told, twin=printable(self.twin)) if told and self.twin else self.kind


class LookedAt(Struct):
    """A folder that was looked at again, with all that lies in it, after the rest of the account; `taken` is when."""

    folder: Folder
    taken: str


class Survey(Struct, omit_defaults=True):
    """What was found in the folders of one account at one moment.

    `taken` is UTC in ISO 8601 form; `source` says where it was looked at. `contents` is false
    when only names and sizes were to be had, so that nothing is known of what files say. `came`
    are the folders of applications that an earlier survey did not show there, `roots` those that
    it was told are document roots, None where that was not kept yet. `names` is the digest of the
    names of all files, which are kept beside it (see FileNames); empty where they were not kept. `slow` are
    the applications whose version was not read, as the pattern of their entry takes too long, `later` the
    folders that were looked at again since, `pages` the index pages that show as they lie there.
    """

    kettlepost: Literal[1]
    account: str
    taken: str
    source: str
    folders: list[FoundFolder]
    contents: bool = True
    names: str = ""
    applications: list[FoundApplication] = field(default_factory=list)
    sites: list[FoundSite] = field(default_factory=list)
    placeholders: list[FoundPlaceholder] = field(default_factory=list)
    controls: list[FoundControl] = field(default_factory=list)
    exposed: list[FoundExposed] = field(default_factory=list)
    oddities: list[FoundOddity] = field(default_factory=list)
    links: list[FoundLink] = field(default_factory=list)
    came: list[Folder] = field(default_factory=list)
    roots: list[Folder] | None = None
    slow: list[str] = field(default_factory=list)
    later: list[LookedAt] = field(default_factory=list)
    pages: list[FoundPage] = field(default_factory=list)

    @property
    def files(self) -> int:
        return sum(folder.files for folder in self.folders)

    @property
    def roots_there(self) -> list[Folder]:
        """Those of the document roots it was told of that it found; a root of the home is always there."""
        there = {folder.folder for folder in self.folders}
        return [root for root in self.roots or () if root in there]

    @property
    def bytes(self) -> int:
        return sum(folder.bytes for folder in self.folders)

    @property
    def troubles(self) -> list[FoundFolder]:
        """Folders that could not be read, wholly or in part."""
        return [folder for folder in self.folders if folder.trouble or folder.unnamed]
