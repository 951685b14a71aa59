"""Recognising applications by their public files."""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping
from typing import NamedTuple

from kettlepost.core.names import Folder
from kettlepost.core.plan import Application
from kettlepost.core.survey.configuration import address_of, database_of, sifting
from kettlepost.core.survey.listings import Listing, Reading
from kettlepost.core.survey.observations import Notes
from kettlepost.core.survey.records import Condition, FoundApplication

_ASIDE = re.compile(
    r"(?:^|[._-])(?:old|alt|backup|back|bak|copy|kopie|orig|save|archive|before|previous)(?:$|[._\d-])|^_|\.bak$"
    r"|[._-](?:19|20)\d\d(?:$|[._-])|~$",
    re.IGNORECASE,
)


_COMMON = frozenset(
    """index.php version.php config.php init.php site.php bootstrap.php process.php upload.php admin.php artisan
    application/ components/ course/ data/ languages/ modules/ public/ sites/ skins/ system/engine/ themes/ Themes/
    user/""".split()
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
    """How well a folder fits a catalogue entry: what spoke for it, and what is missing or against it."""

    application: Application
    evidence: list[str]
    missing: list[str]
    against: list[str]

    @property
    def whole(self) -> bool:
        return not self.missing and not self.against

    @property
    def begun(self) -> bool:
        """Whether most of it is there, so that an upload broke off: two marks of three, and two of its own."""
        marks, own = len(self.evidence) + len(self.missing), sum(path not in _COMMON for path in self.evidence)
        return not self.against and own >= 2 and 3 * len(self.evidence) >= 2 * marks

    @property
    def rank(self) -> tuple[bool, int, int]:
        """The more particular of two matches ranks higher."""
        return self.whole, len(self.evidence), sum(path.count("/") for path in self.evidence)


class ApplicationFinder:
    """Judges by the file names that were noted; `names` are those it asks for, `read_names` those it looks into."""

    def __init__(self, applications: Iterable[Application]):
        self._applications = [known for known in applications if known.all_of or known.any_of]
        self.names = frozenset(
            Mark.of(path).name
            for known in self._applications
            for path in (
                *known.all_of,
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
        self._siftings = {
            name: sifting([k.config for k, _ in known if k.config]) for name, known in self._configs.items()
        }
        self.names |= frozenset(self._versions)
        self.read_names = frozenset(self._versions) | frozenset(self._configs)

    def config_reading(self, folder: str, name: str) -> Reading | None:
        """How to read a file that may be an application's configuration, or None when it is none."""
        if any(mark.base(folder) is not None for _, mark in self._configs.get(name, ())):
            return self._siftings[name]
        return None

    def wants_version(self, folder: str, name: str) -> bool:
        """Whether a file may say an application's version."""
        return any(mark.base(folder) is not None for _, mark in self._versions.get(name, ()))

    def read(self, listing: Listing, notes: Notes) -> None:
        """Note the versions and databases that the files of a listing name."""
        for name, head in listing.heads.items():
            for known, mark in self._configs.get(name, ()):
                base = mark.base(listing.folder)
                if base is None or known.config is None:
                    continue
                if database := database_of(known.config, head):
                    notes.databases[known.id, base] = database
                if address := address_of(known.config, head):
                    notes.addresses[known.id, base] = address
            for known, mark in self._versions.get(name, ()):
                base = mark.base(listing.folder)
                found = known.version and re.search(
                    known.version.pattern, head.decode("utf-8", "replace"), re.MULTILINE
                )
                if found and base is not None:
                    notes.versions[known.id, base] = (found[1] or "")[:60]

    def found(self, notes: Notes) -> list[FoundApplication]:
        """Every application among what was noticed, also those that are half there."""
        best: dict[str, Match] = {}
        for base, match in self._matches(notes):
            if (match.whole or match.begun) and (base not in best or best[base].rank < match.rank):
                best[base] = match
        whole = {base: match for base, match in best.items() if match.whole}
        owned = Owned(whole)
        kept = {
            Folder(base): match
            for base, match in best.items()
            if not owned.holds(Folder(base)) and (match.whole or not any(a in whole for a in Folder(base).above()))
        }
        kinds = defaultdict(list)
        for base, match in kept.items():
            kinds[match.application.id].append(base)
        return [
            self._record(notes, base, match, len(kinds[match.application.id]) > 1)
            for base, match in sorted(kept.items(), key=lambda pair: pair[0].tree_key)
        ]

    def candidates(self, notes: Notes, base: str) -> list[Match]:
        """How every entry that has anything there fits one folder, best first."""
        matches = [_match(known, base, notes) for known in self._applications]
        return sorted((match for match in matches if match.evidence), key=lambda match: match.rank, reverse=True)

    def _matches(self, notes: Notes) -> Iterator[tuple[str, Match]]:
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

    def _record(self, notes: Notes, base: Folder, match: Match, has_twin: bool) -> FoundApplication:
        known = match.application
        version = notes.versions.get((known.id, base), "")
        condition: Condition = ""
        if not match.whole:
            condition = "incomplete"
        elif has_twin and _ASIDE.search(base.name):
            condition = "copy"
        elif known.config is not None and not _there(known.config.file, base, notes):
            condition = "not set up"
        return FoundApplication(
            base, known.id, match.evidence, version, known.version.file if known.version and version else "",
            condition, match.missing, notes.databases.get((known.id, base)),
            [path for path in known.leftovers if _there(path, base, notes) or _there(path + "/", base, notes)],
            notes.addresses.get((known.id, base), ""),
        )  # fmt: skip


class Owned:
    """The folders that belong to found applications."""

    def __init__(self, found: dict[str, Match]):
        self._own = {
            Folder(base).below(inside) for base, match in found.items() for inside in match.application.folders
        }

    def holds(self, folder: Folder) -> bool:
        return folder in self._own or any(above in self._own for above in folder.above())


def owned_by(found: list[FoundApplication], applications: Mapping[str, Application]) -> Owned:
    """The folders that belong to the applications a survey found."""
    return Owned(
        {application.folder: Match(applications[application.application], [], [], []) for application in found}
    )


def _match(known: Application, base: str, notes: Notes) -> Match:
    there = {path: _there(path, base, notes) for path in (*known.all_of, *known.any_of, *known.none_of)}
    some = [path for path in known.any_of if there[path]]
    missing = [path for path in known.all_of if not there[path]]
    if known.any_of and not some:
        missing.append(" or ".join(known.any_of))
    evidence = [path for path in known.all_of if there[path]] + some
    return Match(known, evidence, missing, [path for path in known.none_of if there[path]])


def _there(path: str, base: str, notes: Notes) -> bool:
    mark = Mark.of(path)
    place = mark.place(base)
    if path.endswith("/"):
        return Folder(place).below(mark.name) in notes.folders
    return mark.name in notes.marks.get(place, ())


def _anchors(known: Application) -> list[str]:
    """The files to begin from: the two deepest of those that must be there, else any of those that may."""
    files = [path for path in known.all_of if not path.endswith("/")]
    if files:
        return sorted(files, key=lambda path: (-path.count("/"), path))[:2]
    return [path for path in known.any_of if not path.endswith("/")]
