"""What stands in an account's folders: now, or once the plan is carried out."""

from __future__ import annotations

from collections.abc import Hashable
from typing import Any, Literal, NamedTuple

from kettlepost.core.layout.account import AccountLayout, AddressTree
from kettlepost.core.layout.holdings import HoldKind, holds_in
from kettlepost.core.layout.mounts import When
from kettlepost.core.messages import Message, Words, say
from kettlepost.core.names import Folder, printable
from kettlepost.core.plan import Application, Installation
from kettlepost.core.survey import INDEX_NAMES, FoundPlaceholder

Standing = Literal["folder", "file", "below a file", "nothing", "unknown"]
HTACCESS = ".htaccess"


class PathStanding(NamedTuple):
    """What a path leads to: `deepest` is the deepest folder on the way that is there, `rest` what is left."""

    kind: Standing
    deepest: Folder
    rest: str


class Occupant(NamedTuple):
    """An application in a folder, as the catalogue knows it: `by` is what it was found by, empty where planned."""

    words: Words
    application: Application | None
    by: str = ""


class FolderState:
    """The folders of one account at one time.

    "planned" is once the plan is carried out: planned installations are in their folders, retired
    ones are gone, document roots exist; everything else is as the survey found it.
    """

    def __init__(self, layout: AccountLayout, when: When):
        self.layout = layout
        self.when = when
        self.configured: dict[Hashable, Any] = {}
        """How its server has each host that was asked for, kept by whom that is asked."""
        self._coming: dict[Folder, Installation] = {}
        self._gone: set[Folder] = set()
        self._stays: dict[Folder, set[Folder] | None] = {}
        self._made: set[Folder] = set()
        self._fronts: dict[Folder, Installation] = {}
        self._brought: dict[Folder, set[str]] = {}
        if when == "planned":
            self._coming = {folder: placed[0] for folder, placed in layout.standing.items()}
            self._gone = layout.left.keys() | (layout.placed.keys() - layout.standing.keys())
            coming = [pair for pair in layout.fronts if pair[1].state == "planned" or pair[1].is_moving]
            self._fronts = dict(coming)
            folders = [*layout.mounts, *layout.standing]
            self._made = {above for folder in folders for above in (folder, *folder.above())}
            self._bring()

    def _bring(self) -> None:
        """Put what every release of a planned application holds where it is to go."""
        for folder, installation in self._coming.items():
            if installation.state != "planned":
                continue
            known = self.layout.application(installation)
            admin = [known.admin] if known.admin else []
            for path in (*known.all_of, *known.index_files[:1], *admin):
                place = folder.below(path.strip("/"))
                if path.endswith("/") or (path in admin and "." not in place.name):
                    self._made.add(place)
                else:
                    self._brought.setdefault(place.parent, set()).add(place.name)
                self._made.update(above for above in place.above() if above.is_inside(folder))

    @property
    def tree(self) -> AddressTree:
        """The addresses that lead into the folders at this time."""
        return self.layout.tree(self.when)

    @property
    def is_known(self) -> bool:
        """Whether anything can be told of the folders."""
        return self.layout.contents is not None or self.when == "planned"

    def stands(self, path: Folder) -> PathStanding:
        """What lies at `path`, which may be a folder's, a file's or nobody's."""
        deepest = path
        while not self.is_folder(deepest):
            if not deepest:
                return PathStanding("nothing", deepest, path)
            deepest = deepest.parent
        rest = path.relative_to(deepest)
        if not rest:
            return PathStanding("folder", deepest, "")
        first, _, further = rest.partition("/")
        there = self.has(deepest, first)
        if there is None:
            return PathStanding("unknown", deepest, rest)
        if not there:
            return PathStanding("nothing", deepest, rest)
        return PathStanding("below a file" if further else "file", deepest, rest)

    def is_folder(self, path: Folder) -> bool:
        contents = self.layout.contents
        return (contents is not None and path in contents.folders) or path in self._made

    def trouble(self, folder: Folder) -> str:
        """Why the survey could not read a folder; empty when it could."""
        contents = self.layout.contents
        there = contents.folders.get(folder) if contents is not None else None
        return there.trouble if there is not None else ""

    def _brings(self, folder: Folder, name: str) -> bool:
        """Whether what is to come, or is made, puts a file called `name` directly into `folder`."""
        coming = self._coming.get(folder)
        if coming is not None and name in self.layout.application(coming).index_files[:1]:
            return True
        is_front = folder in self._fronts and name == self.layout.front_file(self._fronts[folder])
        return is_front or name in self._brought.get(folder, ())

    def has(self, folder: Folder, name: str) -> bool | None:
        """Whether a file called `name` lies directly in `folder`; None when nothing tells."""
        coming = self._coming.get(folder)
        if self._brings(folder, name):
            return True
        contents = self.layout.contents
        if contents is None:
            return None if folder in self._coming or self.when == "now" else False
        there = contents.folders.get(folder)
        if there is None:
            return None if coming is not None else False
        if name in there.index or name in there.names or name in there.control:
            return True
        if there.trouble or (self.layout.links and folder.below(name) in self.layout.links):
            return None
        if name in INDEX_NAMES or name in self.layout.index_files:
            return False
        if len(there.names) < there.files:
            names = self.layout.file_names
            if names is None or names.has(folder, name):
                return None if names is None else True
        return None if self.coming(folder) else False

    def files_called(self, folder: Folder, begin: str) -> bool | None:
        """Whether a file's name in a folder begins so; None where nothing tells."""
        contents = self.layout.contents
        there = contents.folders.get(folder) if contents is not None else None
        if any(name.startswith(begin) for name in there.names) if there is not None else False:
            return True
        if self.coming(folder) or (there is not None and len(there.names) < there.files):
            names = self.layout.file_names
            return None if names is None or self.coming(folder) else names.begins(folder, begin)
        return False

    def coming(self, folder: Folder) -> Message | None:
        """The application that has files of its own still to bring to a folder."""
        coming = self._coming.get(folder)
        if coming is None or not (coming.state == "planned" or self.is_coming(folder)):
            return None
        known = self.layout.application(coming)
        return say("occupant/comes-to", application=known.shown, state=coming.state, folder=folder.shown)

    def comes_from(self, folder: Folder) -> Folder | None:
        """Where what is live in a folder lies today, as its root changes later; None where it is there already."""
        contents = self.layout.contents
        for above in (folder, *folder.above()):
            live = self._coming.get(above)
            if live is not None and live.state == "live":
                lies = self.layout.lies_now(live)
                is_there = contents is not None and above in contents.applications
                return lies if lies != above and not is_there else None
            if above in self.layout.roots or above in self._coming:
                return None
        return None

    def goes_with(self, path: Folder) -> Folder | None:
        """The folder of what was retired, or is to move away, with which a path goes; None where nothing goes."""
        for above in (path, *path.above()) if self._gone else ():
            if above in self._gone:
                stays = self._staying(above)
                kept = stays is None or any(path == place or path.is_inside(place) for place in stays)
                return above if not kept else None
            if above in self._coming or above in self.layout.roots:
                return None
        return None

    def _staying(self, folder: Folder) -> set[Folder] | None:
        """What others use of the folder of a retired application, which stays; None where all of it does."""
        if folder not in self._stays:
            found = self.layout.contents.applications.get(folder) if self.layout.contents is not None else None
            goes = self.layout.left.get(folder) or self.layout.placed[folder][0]
            holds = list(holds_in(self.layout, folder, goes.application, goes.number))
            is_mixed = any(hold.place == folder and hold.kind is HoldKind.INSTALLATION for hold in holds)
            others = {hold.place for hold in holds if hold.place != folder}
            self._stays[folder] = None if found is None or is_mixed or not folder else others
        return self._stays[folder]

    def is_coming(self, folder: Folder) -> bool:
        """Whether a planned application is to lie in a folder that the survey did not find."""
        contents = self.layout.contents
        return folder in self._coming and (contents is None or folder not in contents.folders)

    def is_empty(self, folder: Folder) -> bool:
        contents = self.layout.contents
        return folder not in self._coming and (contents is None or contents.is_empty(folder))

    def files_in(self, folder: Folder) -> int:
        contents = self.layout.contents
        there = contents.folders.get(folder) if contents is not None else None
        return there.files if there is not None else 0

    def placeholder(self, folder: Folder, name: str) -> FoundPlaceholder | None:
        """The placeholder page that a file is, unless a planned application brings its own."""
        coming = self._coming.get(folder)
        if self.layout.contents is None or (coming and name in self.layout.application(coming).index_files[:1]):
            return None
        return next((page for page in self.layout.contents.placeholders(folder) if page.file == name), None)

    def through(self, folder: Folder, name: str) -> Message | None:
        """The planned application that a file starts from where it is to go, and where that is to lie."""
        installation = self._fronts.get(folder)
        if installation is None or name != self.layout.front_file(installation):
            return None
        lies = self.layout.folder_of(installation)
        starts = say("occupant/starts", folder=lies.shown) if lies is not None else None
        return say(
            "occupant/through", application=self.layout.application(installation).shown, name=name, starts=starts
        )

    def held(self, folder: Folder) -> Occupant | None:
        """The application in exactly `folder`."""
        coming = self._coming.get(folder)
        contents = self.layout.contents
        found = contents.applications.get(folder) if contents is not None else None
        if coming is not None and (coming.state == "planned" or found is None):
            known = self.layout.application(coming)
            return Occupant(say("occupant/comes", application=known.shown, state=coming.state), known)
        if found is None or folder in self._gone:
            return None
        words = " ".join(filter(None, (self.layout.title(found.application), printable(found.version))))
        return Occupant(words, self.layout.plan.applications.get(found.application), printable(found.known_by))

    def held_above(self, folder: Folder) -> tuple[Folder, Occupant] | None:
        """The nearest application whose folder `folder` is or lies inside."""
        for above in (folder, *folder.above()):
            held = self.held(above)
            if held is not None:
                return above, held
        return None
