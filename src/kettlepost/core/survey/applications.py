"""Recognising applications by their public files."""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Iterator
from dataclasses import dataclass

from kettlepost.core.names import Folder
from kettlepost.core.plan import Application
from kettlepost.core.survey.records import FoundApplication
from kettlepost.core.survey.sources import Listing


@dataclass(frozen=True)
class _Mark:
    """A marker file of the catalogue, split into the folder below the application and the name."""

    folder: str
    name: str

    @classmethod
    def of(cls, path: str) -> _Mark:
        folder, _, name = path.rstrip("/").rpartition("/")
        return cls(folder, name)

    def base(self, folder: str) -> str | None:
        """The application's folder, when this mark was seen in `folder`."""
        if not self.folder or folder == self.folder:
            return folder if not self.folder else ""
        return folder[: -len(self.folder) - 1] if folder.endswith("/" + self.folder) else None

    def place(self, base: str) -> str:
        return "/".join(part for part in (base, self.folder) if part)


class ApplicationFinder:
    """Told every listing, remembers only the names the catalogue asks for, and judges at the end."""

    def __init__(self, applications: list[Application]):
        self._applications = [known for known in applications if known.all_of or known.any_of]
        paths = (path for known in self._applications for path in (*known.all_of, *known.any_of, *known.none_of))
        self._names = frozenset(_Mark.of(path).name for path in paths if not path.endswith("/"))
        self._seen: dict[str, set[str]] = {}
        self._own: set[Folder] = set()
        self._versions: dict[tuple[str, str], str] = {}
        self._patterns: dict[str, list[tuple[Application, _Mark]]] = defaultdict(list)
        for known in self._applications:
            if known.version is not None:
                mark = _Mark.of(known.version.file)
                self._patterns[mark.name].append((known, mark))
        self.version_names = frozenset(self._patterns)

    def wants(self, folder: str, name: str) -> bool:
        """Whether a file may say an application's version."""
        return any(mark.base(folder) is not None for _, mark in self._patterns.get(name, ()))

    def see(self, listing: Listing) -> None:
        names = self._names.intersection([file[0] for file in listing.files])
        if names:
            self._seen.setdefault(listing.folder, set()).update(names)
        for name, head in listing.heads.items():
            for known, mark in self._patterns.get(name, ()):
                base = mark.base(listing.folder)
                found = base is not None and known.version and re.search(known.version.pattern, _text(head))
                if found and base is not None:
                    self._versions[known.id, base] = (found[1] or "")[:60]

    def found(self, folders: set[str]) -> list[FoundApplication]:
        """Every application among what was seen; `folders` are all folders there are."""
        best: dict[str, tuple[int, FoundApplication]] = {}
        for known, base in self._candidates():
            evidence = self._evidence(known, base, folders)
            if evidence is not None and (base not in best or best[base][0] < len(evidence)):
                version = self._versions.get((known.id, base), "")
                file = known.version.file if known.version and version else ""
                best[base] = (len(evidence), FoundApplication(Folder(base), known.id, evidence, version, file))
        known_folders = {known.id: known.folders for known in self._applications}
        self._own = {
            Folder(base).below(inside)
            for base, (_, found) in best.items()
            for inside in known_folders[found.application]
        }
        ranked = sorted((found for _, found in best.values()), key=lambda found: found.folder.tree_key)
        return [found for found in ranked if not self.owns(found.folder)]

    def owns(self, folder: Folder) -> bool:
        """Whether `folder` is, or lies in, one of a found application's own folders."""
        return folder in self._own or any(above in self._own for above in folder.above())

    def _candidates(self) -> Iterator[tuple[Application, str]]:
        places: dict[str, list[str]] = defaultdict(list)
        for folder, names in self._seen.items():
            for name in names:
                places[name].append(folder)
        for known in self._applications:
            bases: set[str] = set()
            for path in _anchors(known):
                mark = _Mark.of(path)
                bases.update(base for folder in places[mark.name] if (base := mark.base(folder)) is not None)
            for base in bases:
                yield known, base

    def _evidence(self, known: Application, base: str, folders: set[str]) -> list[str] | None:
        """The marker files that are there, or None when they do not make it this application."""

        def there(path: str) -> bool:
            mark = _Mark.of(path)
            place = mark.place(base)
            if path.endswith("/"):
                return Folder(place).below(mark.name) in folders
            return mark.name in self._seen.get(place, ())

        some = [path for path in known.any_of if there(path)]
        if not all(map(there, known.all_of)) or any(map(there, known.none_of)) or (known.any_of and not some):
            return None
        return [*known.all_of, *some]


def _anchors(known: Application) -> list[str]:
    """The files to begin from: one that must be there, the deepest, else any of those that may."""
    files = [path for path in known.all_of if not path.endswith("/")]
    if files:
        return [max(files, key=lambda path: (path.count("/"), path))]
    return [path for path in known.any_of if not path.endswith("/")]


def _text(head: bytes) -> str:
    return head.decode("utf-8", "replace")
