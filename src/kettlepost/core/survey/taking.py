"""Taking a survey: listings from a source, gathered and recognised, become one record."""

from __future__ import annotations

from collections.abc import Callable

from kettlepost.core.names import Folder
from kettlepost.core.plan import Plan
from kettlepost.core.survey.applications import ApplicationFinder
from kettlepost.core.survey.placeholders import PlaceholderFinder
from kettlepost.core.survey.records import SAMPLE, FoundFolder, FoundLink, Survey
from kettlepost.core.survey.sources import HEAD, Listing, Source, Wanted

INDEX_NAMES = frozenset(
    f"{stem}.{ending}"
    for stem in ("index", "default", "home", "welcome")
    for ending in ("html", "htm", "php", "xhtml", "shtml", "cgi", "pl", "py", "asp", "aspx", "jsp")
)
CONTROL_NAMES = frozenset(
    (".htaccess", ".htpasswd", ".user.ini", "php.ini", "web.config", "robots.txt", ".maintenance")
)

Progress = Callable[[int, int], None]


def take_survey(plan: Plan, account: str, source: Source, taken: str, progress: Progress | None = None) -> Survey:
    """Look at everything `source` gives and record what later questions need.

    `taken` is the moment in ISO 8601 form; `progress` is told files and folders seen so far.
    Raises OutsideError when the whole source fails.
    """
    index_names = INDEX_NAMES | set(plan.settings.index_files)
    index_names |= {name for known in plan.applications.values() for name in known.index_files}
    applications = ApplicationFinder(list(plan.applications.values()))
    placeholders = PlaceholderFinder.built_in(index_names)
    seeking = _Seeking(index_names, applications, placeholders)
    gathered: dict[str, FoundFolder] = {}
    files = 0
    for listing in source.listings(Wanted(seeking.heads, seeking.wanted)):
        _gather(gathered, listing, index_names)
        seeking.see(listing)
        files += len(listing.files)
        if progress is not None:
            progress(files, len(gathered))
    folders = sorted(gathered.values(), key=lambda found: found.folder.tree_key)
    for found in folders:
        found.names = sorted(found.names)[:SAMPLE]
    found_applications = applications.found(set(gathered))
    return Survey(
        kettlepost=1,
        account=account,
        taken=taken,
        source=source.name,
        folders=folders,
        links=sorted(seeking.links, key=lambda link: (link.folder.tree_key, link.name)),
        placeholders=[page for page in placeholders.found() if not applications.owns(page.folder)],
        applications=found_applications,
    )


class _Seeking:
    """What is looked for by name while listings pass."""

    def __init__(self, index_names: set[str] | frozenset[str], finder: ApplicationFinder, pages: PlaceholderFinder):
        self.index_names = index_names
        self.finder = finder
        self.pages = pages
        self.links: list[FoundLink] = []
        self.heads = frozenset(index_names) | finder.version_names

    def wanted(self, folder: str, name: str, size: int) -> bool:
        return (name in self.index_names and size <= HEAD) or self.finder.wants(folder, name)

    def see(self, listing: Listing) -> None:
        self.finder.see(listing)
        for name, head in listing.heads.items():
            if name in self.index_names:
                self.pages.see(listing.folder, name, head)
        folder = Folder(listing.folder)
        self.links += [FoundLink(folder, name, target) for name, target in listing.links]


def _gather(gathered: dict[str, FoundFolder], listing: Listing, index_names: set[str] | frozenset[str]) -> None:
    found = gathered.get(listing.folder)
    if found is None:
        found = gathered[listing.folder] = FoundFolder(Folder(listing.folder))
    found.odd += listing.odd
    found.trouble = found.trouble or listing.trouble
    files = listing.files
    if not files:
        return
    names, sizes, times = zip(*files, strict=True)
    found.files += len(files)
    found.bytes += sum(sizes)
    found.newest = max(found.newest, *times)
    found.names = sorted([*found.names, *names])[:SAMPLE]
    there = set(names)
    found.index = sorted({*found.index, *(index_names & there)})
    found.control = sorted({*found.control, *(CONTROL_NAMES & there)})
