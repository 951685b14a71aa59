"""Taking a survey: listings from a source, noticed and recognised, become one record."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence
from typing import NamedTuple

from msgspec.structs import replace

from kettlepost.core.budget import Budget
from kettlepost.core.names import HOME, Folder, printable
from kettlepost.core.plan import Account, Application
from kettlepost.core.secrets import masked
from kettlepost.core.survey.applications import ApplicationFinder, Match, owned_by
from kettlepost.core.survey.control_files import CONTROL_NAMES, effects_of
from kettlepost.core.survey.exposed import (
    BELONGS,
    KEYS,
    MOST_OF_A_KEY,
    PHP_INFO,
    mail_folders,
    read_beginning,
    spot,
    told_by_beginning,
    under,
)
from kettlepost.core.survey.file_names import NamesWriter
from kettlepost.core.survey.listings import HEAD, SET_ASIDE, Listing, Reading, Source, Wanted
from kettlepost.core.survey.name_checks import odd_folders, odd_names
from kettlepost.core.survey.observations import Observations
from kettlepost.core.survey.part import is_in
from kettlepost.core.survey.placeholders import PlaceholderFinder
from kettlepost.core.survey.records import (
    Effect,
    FoundControl,
    FoundFolder,
    FoundOddity,
    FoundPage,
    FoundPlaceholder,
    Survey,
    page_digest,
)
from kettlepost.core.survey.sites import SITE_NAMES, endings_of, generator_of, sites
from kettlepost.core.webserver import kept_lines

INDEX_NAMES = frozenset(
    f"{stem}.{ending}"
    for stem in ("index", "default", "home", "welcome")
    for ending in ("html", "htm", "php", "xhtml", "shtml", "cgi", "pl", "py", "asp", "aspx", "jsp")
) | {"index.nginx-debian.html", "index.lighttpd.html"}

_STUBS = ("stub", "empty")
_AS_THEY_LIE = (".html", ".htm", ".xhtml")
"""How pages end that a server shows byte for byte."""

Progress = Callable[[int, int], None]


class Recognisable(NamedTuple):
    """What is recognised: applications by id, how placeholder pages are known, and the usual index files."""

    applications: Mapping[str, Application]
    placeholders: PlaceholderFinder
    index_files: Sequence[str]


def take_survey(
    known: Recognisable,
    name: str,
    account: Account | None,
    source: Source,
    taken: str,
    progress: Progress | None = None,
    names: NamesWriter | None = None,
    only: Folder = HOME,
    beside: Survey | None = None,
    budget: Budget | None = None,
) -> Survey:
    """Look at everything `source` gives for the account called `name`, and record what later questions need.

    `account` is what the plan says of it, `taken` the moment in ISO 8601 form; `progress` is told
    files and folders seen so far, and `names` of all files there are. With `only` that folder and what lies in it
    is looked at alone, and `beside` is what is known of the rest; `budget` is what may be spent. Raises
    OutsideError when the whole source fails or a limit is met, InputError when it is damaged.
    """
    spent = budget or Budget(source.name)
    noticer = Scanner(known, account, source.contents)
    notes = Observations()
    for listing in source.listings(noticer.wanted, only):
        if only and not is_in(listing.folder, only):
            continue
        spent.listing(listing.folder, len(listing.names), listing.links)
        noticer.see(listing, notes)
        if names is not None and listing.names:
            names.add(listing.folder, listing.names, listing.sizes)
        if progress is not None:
            progress(notes.files, len(notes.folders))
    found = noticer.survey(notes, name, source, taken, beside)
    found.names = names.close() if names is not None else ""
    return found


class Scanner:
    """What is looked for in every listing, and what is made of it at the end."""

    def __init__(self, known: Recognisable, account: Account | None, contents: bool = True):
        """`contents` is false where files cannot be looked into."""
        self._known, self.contents = known, contents
        domains = account.domains if account is not None else ()
        self._roots = frozenset(
            str(root) for domain in domains for root in (domain.root, domain.root_now) if root is not None
        )
        own = {name for application in known.applications.values() for name in application.index_files}
        self._index_names = frozenset(INDEX_NAMES | set(known.index_files) | own)
        self._finder = ApplicationFinder(known.applications.values())
        self._known_names = self._index_names | CONTROL_NAMES | SITE_NAMES | self._finder.names
        self._pages = known.placeholders
        self.wanted = Wanted(self._index_names | CONTROL_NAMES | self._finder.read_names | PHP_INFO, self._ask, KEYS)

    def see(self, listing: Listing, notes: Observations) -> None:
        """Note everything that one listing tells."""
        if is_in(listing.folder, SET_ASIDE):
            notes.count(replace(listing, links=[]))
            return
        found = notes.count(listing)
        if found is None:
            return
        folder = found.folder
        if known := self._known_names.intersection(listing.names):
            found.index = tuple(sorted({*found.index, *(known & self._index_names)}))
            found.control = tuple(sorted({*found.control, *(known & CONTROL_NAMES)}))
            notes.marks.setdefault(listing.folder, set()).update(known)
        if links := self._known_names.intersection([link[0] for link in listing.links]):
            notes.marks.setdefault(listing.folder, set()).update(links)
        if listing.names and (endings := endings_of(listing.names)):
            notes.endings[listing.folder] = notes.endings.get(listing.folder, frozenset()) | endings
        spot(listing, self._roots, notes, self.contents)
        odd_names(listing, notes)
        if listing.folder.endswith(".well-known"):
            notes.controls.append(FoundControl(folder.parent, ".well-known/"))
        if listing.heads:
            notes.exposed += told_by_beginning(listing)
        if known:
            self._look_into(folder, listing, notes)

    def _look_into(self, folder: Folder, listing: Listing, notes: Observations) -> None:
        """Note what is told by files with names that matter."""
        self._finder.read(listing, notes)
        for name, size in zip(listing.names, listing.sizes, strict=True):
            if size == 0 and name in self._index_names:
                notes.placeholders.append(FoundPlaceholder(folder, name, "empty", "the file is empty"))
            elif size == 0 and name == ".htaccess":
                notes.controls.append(FoundControl(folder, name))
        for name, head in listing.heads.items():
            if name in CONTROL_NAMES:
                effects = _without_secrets(effects_of(name, head))
                notes.controls.append(FoundControl(folder, name, effects, _kept(name, head)))
            elif name in self._index_names and head:
                self._judge(folder, name, head, notes, listing.names)
                if name.endswith(_AS_THEY_LIE) and len(head) < HEAD:
                    notes.pages.append(FoundPage(folder, name, len(head), page_digest(head)))

    def survey(
        self, notes: Observations, account: str, source: Source, taken: str, beside: Survey | None = None
    ) -> Survey:
        """The record of all that was noticed, in stable order; `beside` is what is known of the rest of the account."""
        notes.folders.setdefault("", FoundFolder(Folder("")))
        others = beside.applications if beside is not None else []
        applications = self._finder.found(notes, self._roots, others)
        owned = owned_by([*applications, *others], self._known.applications)
        notes.exposed += mail_folders(notes.folders, self._roots)
        oddities = [*notes.oddities, *odd_folders(notes.folders)]
        taken_folders = {
            folder for application in (*applications, *others) for folder in (application.folder, application.base)
        }
        fronts = {
            (application.folder, name)
            for application in applications
            for name in self._known.applications[application.application].index_files
        }

        tools = {one.base for one in applications if self._known.applications[one.application].purpose == "database"}
        pages = notes.placeholders = [page for page in notes.placeholders if not self._leads_on(page, notes)]
        other_sites = beside.sites if beside is not None else []
        found_sites = sites(notes, taken_folders, self._roots, self._known.applications.values(), other_sites)
        built = taken_folders | {site.folder for site in (*found_sites, *other_sites)}
        pages = [
            page for page in pages
            if page.kind not in _STUBS or page.folder in self._roots
            or not any(above in built for above in page.folder.above())
        ]  # fmt: skip
        for control in notes.controls:
            control.own = owned.holds(control.folder)
        for link in notes.links:
            link.own = owned.holds(link.folder)

        def own(page: FoundPlaceholder) -> bool:
            """An application's front file may do nothing but send visitors on."""
            return page.kind == "redirect" and (page.folder, page.file) in fronts

        return Survey(
            kettlepost=1,
            account=account,
            taken=taken,
            source=masked(source.name),
            folders=sorted(notes.folders.values(), key=lambda found: found.folder.tree_key),
            contents=source.contents,
            applications=applications,
            sites=found_sites,
            placeholders=_sorted([page for page in pages if not owned.holds(page.folder) and not own(page)]),
            controls=_sorted(notes.controls),
            exposed=_sorted(
                [
                    exposed
                    for exposed in notes.exposed
                    if not (exposed.kind in BELONGS and owned.holds(exposed.folder))
                    and not (exposed.kind == "database tool" and exposed.folder in tools)
                ]
            ),
            oddities=_sorted([odd for odd in oddities if not _belongs(odd, owned.holds(odd.folder.below(odd.name)))]),
            links=_sorted(notes.links),
            pages=_sorted([page for page in notes.pages if not owned.holds(page.folder)]),
            roots=sorted(map(Folder, self._roots)),
            slow=sorted(self._finder.slow),
        )

    def _leads_on(self, page: FoundPlaceholder, notes: Observations) -> bool:
        """Whether a page sends visitors on to a page or folder that is there, as documentation and applications do.

        One that sends them to what is not there is marked as not sure.
        """
        target = notes.targets.get((page.folder, page.file), "").partition("?")[0].partition("#")[0]
        if not target or "://" in target or target.startswith("//"):
            return False
        if target.startswith("/"):
            tops = [Folder(root) for root in self._roots if page.folder == root or page.folder.is_inside(Folder(root))]
            bases = tops or [page.folder]
        else:
            bases = [page.folder]
        there = any(_is_there(base, target, notes) for base in bases)
        page.perhaps = page.perhaps or not there
        return there

    def candidates(self, notes: Observations) -> list[Match]:
        """How each application fits the top folder of what was noticed, best first."""
        return self._finder.candidates(notes, "")

    def _ask(self, folder: str, name: str, size: int) -> Reading | None:
        reading = self._finder.config_reading(folder, name)
        if reading is not None:
            return reading
        if size > HEAD and not self._finder.wants_version(folder, name):
            return None
        if not size:
            return None
        if name in PHP_INFO or name.endswith(KEYS):
            return read_beginning if under(folder, self._roots) and size <= MOST_OF_A_KEY else None
        wanted = name in self._index_names or name in CONTROL_NAMES or self._finder.wants_version(folder, name)
        return _head if wanted else None

    def _judge(self, folder: Folder, name: str, head: bytes, notes: Observations, beside: Collection[str]) -> None:
        judged = self._pages.judge(head)
        if judged is not None and judged.target and judged.target.partition("?")[0] in beside:
            return  # a site that begins with another of its pages
        if judged is not None:
            page = FoundPlaceholder(folder, name, judged.kind, masked(judged.because), not judged.is_sure)
            notes.placeholders.append(page)
            if judged.target:
                notes.targets[folder, name] = judged.target
        elif generator := generator_of(head):
            notes.generators[folder] = generator


def _is_there(base: Folder, target: str, notes: Observations) -> bool:
    """Whether a page or folder was seen, told from a folder; of pages, those that are looked for anywhere."""
    parts = [part for part in target.split("/") if part not in ("", ".")]
    if ".." in parts or not parts:
        return False
    last = Folder(str(base)).below("/".join(parts))
    if last in notes.folders:
        return True
    return last.parent in notes.folders and (last.parent != base or last.name in notes.marks.get(str(last.parent), ()))


def leads_out(folder: Folder, target: str) -> bool:
    """Whether a symbolic link in `folder` leads out of the account's home."""
    if target.startswith("/"):
        return True
    depth = folder.depth
    for part in target.split("/"):
        depth += -1 if part == ".." else part not in ("", ".")
        if depth < 0:
            return True
    return False


def _belongs(odd: FoundOddity, owned: bool) -> bool:
    """Applications may name the files of their releases as they like."""
    return owned and odd.kind != "unprintable name"


def _kept(name: str, head: bytes) -> list[str]:
    """The lines of a control file that decide what answers, without secrets."""
    if name != ".htaccess":
        return []
    lines = kept_lines(head.decode("utf-8", "surrogateescape"), len(head) < HEAD)
    return [printable(masked(line)) for line in lines]


def _without_secrets(effects: list[Effect]) -> list[Effect]:
    """A redirect's address, say, may hold a token."""
    return [Effect(effect.does, effect.line, masked(effect.what)) for effect in effects]


def _head(stream: object) -> bytes:
    head: bytes = stream.read(HEAD)  # type: ignore[attr-defined]
    return head


def _sorted(records: list) -> list:  # type: ignore[type-arg]
    return sorted(
        records, key=lambda item: (item.folder.tree_key, getattr(item, "name", "") or getattr(item, "file", ""))
    )
