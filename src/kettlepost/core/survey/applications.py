"""Recognising applications by their public files."""

from __future__ import annotations

import io
import re
from collections import defaultdict
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from typing import BinaryIO, NamedTuple

from kettlepost.core.names import Folder
from kettlepost.core.plan import Application, ConfigMark
from kettlepost.core.survey.configuration import address_of, database_of, sifting
from kettlepost.core.survey.copies import aside
from kettlepost.core.survey.listings import HEAD, Listing, Reading
from kettlepost.core.survey.observations import Observations
from kettlepost.core.survey.records import Condition, FoundApplication
from kettlepost.core.webserver.patterns import PatternTrouble, search

_VERSION_OF = "version of "
_SAMPLES = frozenset(
    ("database_name_here", "username_here", "databasename", "your_database", "dbname_here", "changeme")
)
"""What stands for a database's name or user in configurations that nobody has filled in."""
_COMMON = frozenset(
    """index.php version.php config.php init.php site.php bootstrap.php process.php upload.php admin.php artisan
    about.php account.php search.php login.php profile.php tags.php feed.php api.php prefs.php backend.php plugins.php
    poller.php utilities.php common.php clients.php groups.php users.php open.php tickets.php posting.php member.php
    attachment.php announcements.php main.inc.php cron.php status.php public.php update.php url.php verify.php thumb.php
    load.php ajax.php register.php public/index.php routes/web.php bootstrap/app.php config/app.php resources/views/
    database/migrations/ vendor/autoload.php includes/functions.php lib/functions.php inc/functions.php inc/init.php
    includes/classes/ lib/template.php lib/xml.php js/list.js js/messages.php admin/index.php install/db/
    system/engine/ login/index.php templates/index.tpl themes/light.css scripts/""".split()
)
"""Marks of entries that other sites have as well, so that alone they do not speak for half an upload."""


class Mark(NamedTuple):
    """A file of the catalogue, split into the folder below the application and the name."""

    folder: str
    name: str

    @classmethod
    def of(cls, path: str) -> Mark:
        folder, _, name = path.rstrip("/").rpartition("/")
        return cls(folder, name)

    def base(self, folder: str) -> str | None:
        """The application's folder, when this file was seen in `folder`."""
        if not self.folder or folder == self.folder:
            return folder if not self.folder else ""
        return folder[: -len(self.folder) - 1] if folder.endswith("/" + self.folder) else None

    def place(self, base: str) -> str:
        return "/".join(part for part in (base, self.folder) if part)


class Match(NamedTuple):
    """How well a folder fits a catalogue entry: what spoke for it, and what is missing or against it.

    `parts` are those of the entry's parts that are there, `gone` those that are not.
    """

    application: Application
    evidence: list[str]
    missing: list[str]
    against: list[str]
    parts: Sequence[str] = ()
    gone: Sequence[str] = ()

    @property
    def whole(self) -> bool:
        return not self.missing and not self.against

    @property
    def begun(self) -> bool:
        """Whether so much is there that an upload broke off, or files were lost: two marks of its own or more."""
        there = [path for path in (*self.evidence, *self.parts) if not _is_common(path)]
        marks = len(self.evidence) + len(self.missing) + len(self.parts) + len(self.gone)
        if self.against or self.whole:
            return False
        return len(there) >= (2 if marks < 8 else 3) and (len(there) >= 3 or 3 * len(there) >= 2 * marks)

    @property
    def rank(self) -> tuple[bool, int, int]:
        """The more particular of two matches ranks higher."""
        there = (*self.evidence, *self.parts)
        return self.whole, len(there), sum(path.count("/") for path in there)

    def lacks(self, version: str, is_read: bool) -> Sequence[str]:
        """The parts that are not there where they should be.

        A release other than the one an entry was held against may lack a fifth of them and be whole; so may
        one of which the version could not be read.
        """
        proved = self.application.proved
        if proved is None:
            return self.gone
        is_proved = bool(proved) and (
            self.application.version is None or (is_read and f"{version}.".startswith(f"{proved}."))
        )
        few = max(1, (len(self.parts) + len(self.gone)) // 5)
        return self.gone if is_proved or len(self.gone) > few else []


def _is_common(path: str) -> bool:
    """Whether other sites have such a file or folder as well."""
    return path in _COMMON or ("/" not in path[:-1] and path.endswith("/"))


class ApplicationFinder:
    """Judges by the file names that were noted; `names` are those it asks for, `read_names` those it looks into.

    `slow` are the entries whose patterns took too long.
    """

    def __init__(self, applications: Iterable[Application]):
        self._applications = [known for known in applications if known.all_of or known.any_of]
        self.names = frozenset(
            Mark.of(path).name
            for known in self._applications
            for path in (
                *known.all_of,
                *known.parts,
                *known.any_of,
                *known.none_of,
                *known.leftovers,
                *([known.config.file] if known.config else []),
            )
            if not path.endswith("/")
        )
        self._versions: dict[str, list[tuple[Application, Mark]]] = defaultdict(list)
        self._configs: dict[str, list[tuple[Application, Mark]]] = defaultdict(list)
        for known in self._applications:
            if known.version is not None:
                mark = Mark.of(known.version.file)
                self._versions[mark.name].append((known, mark))
            if known.config is not None:
                mark = Mark.of(known.config.file)
                self._configs[mark.name].append((known, mark))
        self.slow: set[str] = set()
        self._siftings = {
            name: sifting([k.config for k, _ in known if k.config]) for name, known in self._configs.items()
        }
        self.names |= frozenset(self._versions)
        self._config_names = frozenset(self._configs)
        self.read_names = frozenset(self._versions) | frozenset(self._configs)

    def config_reading(self, folder: str, name: str) -> Reading | None:
        """How to read a file that may be an application's configuration, or None when it is none."""
        if not any(mark.base(folder) is not None for _, mark in self._configs.get(name, ())):
            return None
        sifted = self._siftings[name]
        versions = [known for known, mark in self._versions.get(name, ()) if mark.base(folder) is not None]
        if not versions:
            return sifted

        def with_versions(stream: BinaryIO) -> bytes:
            head = stream.read(HEAD)
            told = [(known.id, self._version(known, head)) for known in versions]
            lines = [f"{_VERSION_OF}{one}\t{version}\n" for one, version in told if version]
            return sifted(io.BytesIO(head)) + "".join(lines).encode()

        return with_versions

    def wants_version(self, folder: str, name: str) -> bool:
        """Whether a file may say an application's version."""
        return any(mark.base(folder) is not None for _, mark in self._versions.get(name, ()))

    def read(self, listing: Listing, notes: Observations) -> None:
        """Note the versions and databases that the files of a listing name, and configurations that are empty."""
        for name in self._config_names.intersection(listing.names):
            if not listing.sizes[listing.names.index(name)]:
                notes.blank.add((listing.folder, name))
        for name, head in listing.heads.items():
            for known, mark in self._configs.get(name, ()):
                base = mark.base(listing.folder)
                if base is not None and known.config is not None:
                    _note_configured(notes, known.id, base, known.config, head)
            for known, mark in self._versions.get(name, ()):
                base = mark.base(listing.folder)
                if base is None:
                    continue
                sifted = name in self._config_names and self.config_reading(listing.folder, name) is not None
                version = _noted_version(known, head) if sifted else self._version(known, head)
                if version:
                    notes.versions[known.id, base] = version

    def _version(self, known: Application, head: bytes) -> str:
        """The version that a file names. A pattern of somebody's own is looked for under a time limit."""
        if known.version is None:
            return ""
        text = head.decode("utf-8", "replace")
        if known.proved is None:
            try:
                groups = search(known.version.pattern, text, by_line=True)
            except PatternTrouble:
                self.slow.add(known.id)
                return ""
            parts = groups[1:] if groups is not None else ()
        else:
            found = re.search(known.version.pattern, text, re.MULTILINE)
            parts = tuple(group or "" for group in found.groups()) if found else ()
        return ".".join(part for part in parts if part)[:60]

    def found(
        self, notes: Observations, roots: Collection[str] = (), beside: Sequence[FoundApplication] = ()
    ) -> list[FoundApplication]:
        """Every application among what was noticed, also those that are half there; a document root is no copy.

        `beside` are others that are known to lie elsewhere in the account.
        """
        best: dict[str, Match] = {}
        for base, match in self._matches(notes):
            if (match.whole or match.begun) and (base not in best or best[base].rank < match.rank):
                best[base] = match
        whole = {base: match for base, match in best.items() if match.whole}
        around = [found for found in beside if found.condition != "incomplete"]
        owned = Owned(whole, {known.id: known for known in self._applications}, around)
        complete = {*map(Folder, whole), *(found.base for found in around)}
        kept = {
            Folder(base): match
            for base, match in best.items()
            if not owned.holds(Folder(base)) and (match.whole or not any(a in complete for a in Folder(base).above()))
        }
        copies = aside(
            {base: match.application.id for base, match in kept.items()},
            {base: notes.folders[base].newest if base in notes.folders else 0 for base in kept},
            roots,
        )
        found_all = [
            self._record(notes, base, match, base in copies)
            for base, match in sorted(kept.items(), key=lambda pair: pair[0].tree_key)
        ]
        for found in found_all:
            own = kept[found.folder].application.document_root
            front = found.folder.below(own) if own else found.folder
            if front != found.folder and front in roots and found.folder not in roots:
                found.folder, found.around = front, found.folder
        return found_all

    def candidates(self, notes: Observations, base: str) -> list[Match]:
        """How every entry that has anything there fits one folder, best first."""
        matches = [_match(known, base, notes) for known in self._applications]
        return sorted((match for match in matches if match.evidence), key=lambda match: match.rank, reverse=True)

    def _matches(self, notes: Observations) -> Iterator[tuple[str, Match]]:
        places: dict[str, list[str]] = defaultdict(list)
        for folder, names in notes.marks.items():
            for name in names:
                places[name].append(folder)
        for known in self._applications:
            bases: set[str] = set()
            for path in _anchors(known):
                mark = Mark.of(path)
                bases.update(base for folder in places[mark.name] if (base := mark.base(folder)) is not None)
            for base in bases:
                yield base, _match(known, base, notes)

    def _record(self, notes: Observations, base: Folder, match: Match, is_aside: bool) -> FoundApplication:
        known = match.application
        version = notes.versions.get((known.id, base), "")
        holder = _config_holder(known, base, notes)
        condition: Condition = ""
        missing = match.missing or match.lacks(version, bool(version) or known.version is None)
        if missing:
            condition = "incomplete"
            missing = [*match.missing, *match.gone]
        elif is_aside:
            condition = "copy"
        elif known.config is not None and not known.config.ships and not _is_set_up(known, holder, notes):
            condition = "not set up"
        at = (known.id, holder if holder is not None else base)
        return FoundApplication(
            base, known.id, match.evidence or [*match.parts], version,
            known.version.file if known.version and version else "",
            condition, list(missing), notes.databases.get(at) if condition != "not set up" else None,
            [path for path in known.leftovers if _there(path, base, notes) or _there(path + "/", base, notes)],
            notes.addresses.get(at, "") if condition != "not set up" else "", known.is_unproved,
        )  # fmt: skip


def _config_holder(known: Application, base: Folder, notes: Observations) -> Folder | None:
    """The folder from which an application's configuration is told: its own, or the one above where it looks there."""
    if known.config is None:
        return None
    if _there(known.config.file, base, notes):
        return base
    return base.parent if known.config.above and base and _there(known.config.file, base.parent, notes) else None


def _is_set_up(known: Application, holder: Folder | None, notes: Observations) -> bool:
    if holder is None or known.config is None:
        return False
    mark = Mark.of(known.config.file)
    if (mark.place(holder), mark.name) in notes.blank:
        return False
    database = notes.databases.get((known.id, holder))
    samples = {*known.config.samples, *_SAMPLES}
    return database is None or not samples & {database.name, database.user}


def _noted_version(known: Application, sifted: bytes) -> str:
    begin = f"{_VERSION_OF}{known.id}\t"
    lines = sifted.decode("utf-8", "replace").split("\n")
    return next((line.removeprefix(begin) for line in lines if line.startswith(begin)), "")


class Owned:
    """The folders that belong to found applications."""

    def __init__(
        self,
        found: Mapping[str, Match],
        known: Mapping[str, Application] | None = None,
        others: Iterable[FoundApplication] = (),
    ):
        """`others` are records of more of them, whose entries are among those `known`."""
        self._own = {
            Folder(base).below(inside) for base, match in found.items() for inside in match.application.folders
        }
        for other in others:
            entry = (known or {}).get(other.application)
            self._own |= {other.base.below(inside) for inside in entry.folders} if entry is not None else set()

    def holds(self, folder: Folder) -> bool:
        return folder in self._own or any(above in self._own for above in folder.above())


def owned_by(found: Iterable[FoundApplication], applications: Mapping[str, Application]) -> Owned:
    """The folders that belong to the applications a survey found."""
    return Owned({}, applications, found)


def _match(known: Application, base: str, notes: Observations) -> Match:
    marks = (*known.all_of, *known.parts, *known.any_of, *known.none_of)
    there = {path: _there(path, base, notes) for path in marks}
    some = [path for path in known.any_of if there[path]]
    missing = [path for path in known.all_of if not there[path]]
    if known.any_of and not some:
        missing.append(" or ".join(known.any_of))
    evidence = [path for path in known.all_of if there[path]] + some
    against = [path for path in known.none_of if there[path]]
    parts, gone = [path for path in known.parts if there[path]], [path for path in known.parts if not there[path]]
    return Match(known, evidence, missing, against, parts, gone)


def _there(path: str, base: str, notes: Observations) -> bool:
    mark = Mark.of(path)
    place = mark.place(base)
    if path.endswith("/"):
        return Folder(place).below(mark.name) in notes.folders
    return mark.name in notes.marks.get(place, ())


def _anchors(known: Application) -> list[str]:
    """The files to begin from: all that must be there and lie deep enough to be its own, else all there are."""
    files = [path for path in (*known.all_of, *known.parts, *known.any_of) if not path.endswith("/")]
    return [path for path in files if not _is_common(path)] or files


def _note_configured(notes: Observations, name: str, base: str, config: ConfigMark, head: bytes) -> None:
    """Note the database and the address that a configuration names."""
    if database := database_of(config, head):
        notes.databases[name, base] = database
    if address := address_of(config, head):
        notes.addresses[name, base] = address
