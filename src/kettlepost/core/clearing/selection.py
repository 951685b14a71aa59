"""What a clearing takes out of a folder, what stays, and why."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from enum import StrEnum, auto

from msgspec import Struct

from kettlepost.core.clearing.entries import FileEntry, Tree
from kettlepost.core.clearing.holders import ClearedFolder, KeepReason, KeptEntry, holders
from kettlepost.core.errors import InputError
from kettlepost.core.layout import AccountLayout
from kettlepost.core.names import Folder
from kettlepost.core.plan import Application
from kettlepost.core.rules.leftovers import stale_controls
from kettlepost.core.survey import CONTROL_NAMES, KEEPING_OUT, FoundApplication


class Measure(StrEnum):
    """How much a clearing takes."""

    BLOCKING = "blocking"
    LEFTOVERS = "leftovers"
    EVERYTHING = "everything"


class RemovalReason(StrEnum):
    """Why something is taken."""

    PLACEHOLDER = auto()
    WELCOME = auto()
    CONTROL = auto()
    FOLDER = auto()
    INSTALLER = auto()
    RETIRED = auto()
    FOREIGN = auto()
    ASIDE = auto()
    STRAY = auto()
    HIDDEN = auto()
    EMPTY = auto()
    CARRIED = auto()
    OTHER = auto()


class ContentKind(StrEnum):
    """What may be somebody's content, so that it is named."""

    PAGE = "page"
    MEDIA = "media"
    DUMP = "database dump"
    ARCHIVE = "archive"
    CONFIGURATION = "configuration with a database"
    APPLICATION = "application"
    SITE = "site"
    REPOSITORY = "repository"
    KEY = "private key"
    UPLOADS = "documents"


class Content(Struct, frozen=True):
    """Something that may be content: a file, or so many files of a kind that lie directly in a folder."""

    path: str
    kind: ContentKind
    count: int = 1
    what: str = ""


class Removal(Struct, frozen=True):
    """Something that is taken whole: a file, a link, or a folder with all that lies in it.

    `what` says more of why, such as what a control file does; `content` is what in it may be somebody's.
    """

    path: str
    kind: str
    why: RemovalReason
    what: str = ""
    files: int = 1
    bytes: int = 0
    content: tuple[Content, ...] = ()


class Selection(Struct, frozen=True):
    """All that is taken, in the order of paths, and all that stays in the folder."""

    takes: tuple[Removal, ...]
    stays: tuple[KeptEntry, ...]

    @property
    def files(self) -> int:
        return sum(taken.files for taken in self.takes)

    @property
    def bytes(self) -> int:
        return sum(taken.bytes for taken in self.takes)


_STRAY = re.compile(
    r"\.DS_Store|\._.+|Thumbs\.db|ehthumbs\.db|desktop\.ini|__MACOSX|\.AppleDouble|\.Spotlight-V100|\.Trashes|\.fseventsd"
    r"|.+~|\.?[^/]*\.sw[nop]|\.#.+|#.+#|error_log(?:[.-]\d+)?|php_errorlog|nohup\.out|core\.\d+|\.nfs[0-9a-f]+"
    r"|\.lock\.[^/]*#"
)
_WELCOME = frozenset(
    "nginx-logo.png poweredby.png apache_pb.gif apache_pb.png apache_pb2.gif apache_pb2.png apache_pb22.gif "
    "feather.png openlogo-75.png".split()
)
"""What servers' packages lay beside their welcome page."""
_SERVERS = frozenset("apache caddy iis jetty lighttpd nginx openlitespeed server tomcat varnish yaws".split())
"""The kinds of welcome page that servers bring."""
_MEDIA = frozenset(
    "jpg jpeg png gif svg webp avif heic bmp tif tiff mp3 m4a ogg opus flac wav mp4 m4v mov avi mkv webm psd ai".split()
)
_DOCUMENTS = frozenset("pdf doc docx odt xls xlsx ods ppt pptx odp rtf epub csv".split())
_PAGES = frozenset("html htm xhtml shtml md".split())
_BY_ENDING = {
    **dict.fromkeys(_MEDIA, ContentKind.MEDIA),
    **dict.fromkeys(_DOCUMENTS, ContentKind.UPLOADS),
    **dict.fromkeys(_PAGES, ContentKind.PAGE),
}
_EXPOSED = {
    "database dump": ContentKind.DUMP, "archive": ContentKind.ARCHIVE, "repository": ContentKind.REPOSITORY,
    "environment file": ContentKind.CONFIGURATION, "configuration backup": ContentKind.CONFIGURATION,
    "private key": ContentKind.KEY,
}  # fmt: skip
_DUMPS = re.compile(r".+\.(?:sql|dump|sqlite3?|db|mdb)(?:\.(?:gz|bz2|xz|zst|zip))?")
_ARCHIVES = re.compile(r".+\.(?:zip|rar|7z|tar|tgz|tbz2?|txz|tar\.\w{1,4})")
_ASIDE = ("copy", "incomplete", "not set up")


def select(layout: AccountLayout, place: ClearedFolder, tree: Tree, measure: Measure) -> Selection:
    """What a clearing of that measure takes; `tree` is all that lies in the folder.

    What others use stays, and of a live installation everything that is not known for a leftover. What may be
    content is never taken to let an installation in, only where more is asked for.
    """
    return _Selecting(layout, place, tree, measure).selection()


class _Selecting:
    def __init__(self, layout: AccountLayout, place: ClearedFolder, tree: Tree, measure: Measure):
        self._layout, self._place, self._tree, self._measure = layout, place, tree, measure
        self._held = {one.path: one for one in place.beside} | holders(layout, place.folder)
        self._around = {above for path in self._held for above in _above(path, tree.top)}
        if layout.contents is None:
            raise InputError(f"{layout.name} was not surveyed yet", layout.surveying)
        self._contents = layout.contents
        contents = self._contents
        self._controls = stale_controls(layout, place.folder, with_needed=True) if place.planned is not None else {}
        self._exposed = {
            str(one.folder.below(one.name) if one.name else one.folder): one.kind for one in contents.survey.exposed
        }
        self._configured = self._configurations()
        self._installers = self._leftovers()
        self._whole = self._of_the_folder()

    def selection(self) -> Selection:
        takes: list[Removal] = []
        stays: list[KeptEntry] = []
        for one in self._folder(self._tree.top, self._whole):
            takes.append(one) if isinstance(one, Removal) else stays.append(one)
        if self._takes_folder(stays):
            top = FileEntry(str(self._tree.top), "folder")
            takes = [self._taken(top, self._why_whole(), "")]
        shut = [one for one in takes if one.why is RemovalReason.CONTROL and self._keeps_shut(one, stays)]
        stays += [KeptEntry(one.path, KeepReason.SHUTS, one.what) for one in shut]
        needed = [one for one in takes if one not in shut and self._is_needed(one)]
        stays += [KeptEntry(one.path, KeepReason.NEEDED, one.what) for one in needed]
        return Selection(tuple(one for one in takes if one not in shut and one not in needed), tuple(stays))

    def _is_needed(self, taken: Removal) -> bool:
        """Whether a file keeps visitors out of the folder that stays, or chooses the PHP by which it is served."""
        folder, _, name = taken.path.rpartition("/")
        return (
            not self._place.gives_way
            and folder == self._tree.top
            and name in self._contents.needed_controls(Folder(folder))
        )

    def _keeps_shut(self, control: Removal, stays: Sequence[KeptEntry]) -> bool:
        """Whether a control file keeps visitors from what stays below it, which would be open to all without it."""
        folder, _, name = control.path.rpartition("/")
        effects = [
            effect.does
            for there in self._contents.controls(Folder(folder))
            if there.file == name
            for effect in there.effects
        ]
        below = [one for one in stays if one.why is not KeepReason.CHALLENGES and one.path.startswith(f"{folder}/")]
        return bool(below) and any(does in KEEPING_OUT for does in effects)

    def _of_the_folder(self) -> RemovalReason | None:
        """Why everything in the folder goes that nobody holds, where the application in it does; None where not."""
        place = self._place
        if self._measure is Measure.BLOCKING or place.live is not None:
            return None
        retired = [one for one in self._layout.placed.get(place.folder, []) if one.state == "retired"]
        if retired:
            return RemovalReason.RETIRED
        if place.found is not None:
            return RemovalReason.ASIDE if place.found.condition in _ASIDE else RemovalReason.FOREIGN
        return RemovalReason.OTHER if self._measure is Measure.EVERYTHING else None

    def _takes_folder(self, stays: Sequence[KeptEntry]) -> bool:
        """Whether the folder itself goes: nobody wants it, or an installer wants to make it, and it is empty then."""
        planned = self._place.planned
        if planned is not None:
            is_free = self._layout.wants_new_folder(planned)
            is_free = is_free and self._layout.folder_of(planned) == self._place.folder
        else:
            is_led_to = any(target == self._place.folder for _, target in self._layout.links_to)
            is_free = self._measure is Measure.EVERYTHING and self._place.live is None and not is_led_to
        return (
            is_free and bool(self._place.folder) and not self._place.is_shown and not stays and not self._tree.troubles
        )

    def _why_whole(self) -> RemovalReason:
        if self._place.planned is not None:
            return RemovalReason.FOLDER
        return (self._whole or RemovalReason.OTHER) if self._tree.children(self._tree.top) else RemovalReason.EMPTY

    def _folder(self, folder: str, inherited: RemovalReason | None) -> Iterator[Removal | KeptEntry]:
        """What becomes of each thing directly in a folder; `inherited` goes for what nothing else is known of."""
        if folder in self._tree.troubles:
            yield KeptEntry(folder, KeepReason.UNREAD, self._tree.troubles[folder])
        for entry in self._tree.children(folder):
            held = self._held.get(entry.path)
            if held is not None:
                yield KeptEntry(held.path, held.why, held.who, self._count(entry))
            elif entry.kind == "odd":
                yield KeptEntry(entry.path, KeepReason.DEVICE)
            elif entry.name == ".well-known" and entry.kind == "folder":
                yield KeptEntry(entry.path, KeepReason.CHALLENGES, count=self._count(entry))
            elif entry.kind == "folder":
                yield from self._inner(entry, inherited)
            else:
                yield self._single(entry, folder, inherited)

    def _inner(self, entry: FileEntry, inherited: RemovalReason | None) -> Iterator[Removal | KeptEntry]:
        """What becomes of a folder in the folder."""
        why, keeper = self._why_of(entry, inherited)
        if not self._tree.is_read(entry.path) and why is not None:
            yield KeptEntry(entry.path, KeepReason.UNREAD, next(iter(self._tree.troubles.values())), self._count(entry))
        elif entry.path in self._around and (
            why is not None or keeper not in (KeepReason.APPLICATION, KeepReason.SITE)
        ):
            yield from self._folder(entry.path, why)
        elif why is not None:
            yield from self._without_odd(entry, why)
        else:
            yield KeptEntry(entry.path, keeper, self._named(entry.path), self._count(entry))

    def _without_odd(self, entry: FileEntry, why: RemovalReason) -> Iterator[Removal | KeptEntry]:
        """A folder whole, unless something in it has to stay."""
        below = self._tree.below(entry.path)
        if any(one.kind == "odd" or (one.name == ".well-known" and one.kind == "folder") for one in below):
            yield from self._folder(entry.path, why)
        else:
            yield self._taken(entry, why, self._named(entry.path))

    def _why_of(self, entry: FileEntry, inherited: RemovalReason | None) -> tuple[RemovalReason | None, KeepReason]:
        """Why a folder is taken, or why not."""
        measure, path = self._measure, Folder(entry.path)
        if measure is Measure.BLOCKING:
            return None, self._content_keeper(path)
        found = self._found_at(path)
        if found is not None:
            foreign = RemovalReason.FOREIGN if measure is Measure.EVERYTHING else None
            return RemovalReason.ASIDE if found.condition in _ASIDE else foreign, KeepReason.APPLICATION
        if entry.path in self._installers:
            return RemovalReason.INSTALLER, KeepReason.LEFTOVER
        if self._place.live is not None:
            stray = _STRAY.fullmatch(entry.name)
            return (RemovalReason.STRAY, KeepReason.LIVE) if stray else (None, KeepReason.LIVE)
        site = self._contents.site(path)
        if site is not None:
            return (RemovalReason.OTHER if measure is Measure.EVERYTHING else None), KeepReason.SITE
        if _STRAY.fullmatch(entry.name):
            return RemovalReason.STRAY, KeepReason.CONTENT
        if not any(one.kind != "folder" for one in self._tree.below(entry.path)):
            return RemovalReason.EMPTY, KeepReason.CONTENT
        if inherited in (RemovalReason.RETIRED, RemovalReason.FOREIGN, RemovalReason.ASIDE):
            return inherited, KeepReason.CONTENT
        if entry.name.startswith("."):
            return RemovalReason.HIDDEN, KeepReason.CONTENT
        return inherited, KeepReason.CONTENT

    def _content_keeper(self, path: Folder) -> KeepReason:
        """Why a folder stays that is not in the way."""
        if self._found_at(path) is not None:
            return KeepReason.APPLICATION
        if self._place.live is not None:
            return KeepReason.LIVE
        if self._contents.site(path) is not None:
            return KeepReason.SITE
        empty = not any(one.kind != "folder" for one in self._tree.below(path))
        return (
            KeepReason.LEFTOVER
            if empty or _STRAY.fullmatch(path.name) or path.name.startswith(".")
            else KeepReason.CONTENT
        )

    def _single(self, entry: FileEntry, folder: str, inherited: RemovalReason | None) -> Removal | KeptEntry:
        """What becomes of a file or link."""
        at_top, name = folder == self._tree.top, entry.name
        why, what, keeper = self._why_single(entry, at_top, inherited)
        if why is None and inherited is not None and self._place.live is None:
            why = RemovalReason.HIDDEN if inherited is RemovalReason.OTHER and name.startswith(".") else inherited
        if why is None:
            return KeptEntry(entry.path, keeper, what)
        return self._taken(entry, why, what)

    def _why_single(
        self, entry: FileEntry, at_top: bool, inherited: RemovalReason | None
    ) -> tuple[RemovalReason | None, str, KeepReason]:
        """What is known of a file by itself: why it is taken at this measure, more about it, and why it stays else."""
        folder, name = Folder(entry.path.rpartition("/")[0]), entry.name
        asked = self._measure is not Measure.BLOCKING
        page = next((page for page in self._contents.placeholders(folder) if page.file == name), None)
        if page is not None and entry.kind == "file" and not self._is_own_front(name, at_top):
            return (RemovalReason.PLACEHOLDER if at_top or asked else None), page.because, KeepReason.LEFTOVER
        perhaps = next((page for page in self._contents.perhaps_placeholders(folder) if page.file == name), None)
        if perhaps is not None and inherited is None:
            return None, perhaps.because, KeepReason.DOUBT
        live = self._place.live is not None
        if name in CONTROL_NAMES and not live:
            does = ", ".join(self._controls.get(name, ()) if at_top else ())
            planned = self._place.planned
            is_written_over = at_top and planned is not None and planned.is_moving
            if does or asked or is_written_over:
                return RemovalReason.CONTROL, does, KeepReason.HARMLESS
            return None, "", KeepReason.HARMLESS if self._place.planned is not None and at_top else KeepReason.LEFTOVER
        if name in _WELCOME and at_top and self._has_welcome():
            return RemovalReason.WELCOME, "", KeepReason.LEFTOVER
        if entry.path in self._installers:
            return (RemovalReason.INSTALLER if asked else None), "", KeepReason.LEFTOVER
        if _STRAY.fullmatch(name):
            return (RemovalReason.STRAY if asked else None), "", KeepReason.LEFTOVER
        if live:
            return None, "", KeepReason.LIVE
        if name.startswith("."):
            return (RemovalReason.HIDDEN if asked else None), "", KeepReason.LEFTOVER
        return None, "", KeepReason.CONTENT

    def _is_own_front(self, name: str, at_top: bool) -> bool:
        """Whether a file is one through which what is live here answers."""
        live = self._place.live
        return live is not None and at_top and name in self._layout.application(live).index_files

    def _has_welcome(self) -> bool:
        return any(page.kind in _SERVERS for page in self._contents.placeholders(self._place.folder))

    def _leftovers(self) -> frozenset[str]:
        found = self._place.found
        if found is None or found.condition:
            return frozenset()
        return frozenset(str(found.base.below(name.rstrip("/"))) for name in found.leftovers)

    def _found_at(self, path: Folder) -> FoundApplication | None:
        found = self._contents.applications.get(path)
        if found is None:
            found = next((one for one in self._contents.applications.values() if one.base == path), None)
        return found

    def _named(self, path: str) -> str:
        """The application or site in a folder, by name."""
        found = self._found_at(Folder(path))
        if found is not None:
            return found.words(self._layout.title(found.application))
        site = self._contents.site(Folder(path))
        return site.kind if site is not None else ""

    def _count(self, entry: FileEntry) -> int:
        return sum(one.kind != "folder" for one in self._tree.below(entry.path)) if entry.kind == "folder" else 0

    def _taken(self, entry: FileEntry, why: RemovalReason, what: str) -> Removal:
        if entry.kind != "folder":
            content = self._content_of([entry], why)
            return Removal(entry.path, entry.kind, why, what, 1, max(entry.size, 0), content)
        below = list(self._tree.below(entry.path))
        files = [one for one in below if one.kind != "folder"]
        size = sum(max(one.size, 0) for one in files)
        return Removal(entry.path, "folder", why, what, len(files), size, self._content_of([entry, *below], why))

    def _content_of(self, entries: Sequence[FileEntry], why: RemovalReason) -> tuple[Content, ...]:
        """What in it may be somebody's, each by itself; media and documents folder by folder."""
        if why in (
            RemovalReason.PLACEHOLDER,
            RemovalReason.WELCOME,
            RemovalReason.CONTROL,
            RemovalReason.STRAY,
            RemovalReason.EMPTY,
            RemovalReason.INSTALLER,
        ):
            return ()
        told: dict[tuple[str, ContentKind], Content] = {}
        counts: dict[tuple[str, ContentKind], int] = {}
        for entry in entries:
            kind, what = self._kind_of(entry)
            if kind in (ContentKind.MEDIA, ContentKind.UPLOADS, ContentKind.PAGE) and len(entries) > 1:
                folder = entry.path.rpartition("/")[0]
                counts[folder, kind] = counts.get((folder, kind), 0) + 1
            elif kind is not None:
                told[entry.path, kind] = Content(entry.path, kind, 1, what)
        for (folder, kind), count in counts.items():
            told[folder, kind] = Content(folder, kind, count)
        return tuple(told[key] for key in sorted(told))

    def _kind_of(self, entry: FileEntry) -> tuple[ContentKind | None, str]:
        name = entry.name.lower()
        ending = name.rpartition(".")[2] if "." in name else ""
        if entry.path in self._configured:
            return ContentKind.CONFIGURATION, self._configured[entry.path]
        kind = _EXPOSED.get(self._exposed.get(entry.path, ""))
        if kind is not None:
            return kind, ""
        if entry.kind == "folder":
            path = Folder(entry.path)
            if self._found_at(path) is not None:
                return ContentKind.APPLICATION, self._named(entry.path)
            return (ContentKind.SITE, self._named(entry.path)) if self._contents.site(path) is not None else (None, "")
        if _DUMPS.fullmatch(name):
            return ContentKind.DUMP, ""
        if _ARCHIVES.fullmatch(name):
            return ContentKind.ARCHIVE, ""
        return _BY_ENDING.get(ending), ""

    def _configurations(self) -> dict[str, str]:
        """The configurations that name a database, by path, with its name."""
        found: dict[str, str] = {}
        for app in self._contents.applications.values():
            known: Application | None = self._layout.plan.applications.get(app.application)
            if app.database is not None and app.database.name and known is not None and known.config is not None:
                found[str(app.base.below(known.config.file))] = app.database.name
        return found


def _above(path: str, top: str) -> Iterator[str]:
    """The folders between a path and the top folder."""
    for above in Folder(path).above():
        if above == top or not above:
            return
        yield str(above)
