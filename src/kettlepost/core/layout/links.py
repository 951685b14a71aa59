"""Following the symbolic links that a survey recorded."""

from __future__ import annotations

from collections.abc import Iterable

from kettlepost.core.names import Folder
from kettlepost.core.survey import FoundLink

_MOST = 40
"""How many links are followed on one way, as Linux does (path_resolution(7))."""


class Links:
    """The symbolic links of one account, and the folders they make one of two names.

    `home` is where the account's home lies on its host, when that is known, so that absolute
    targets inside it can be followed.
    """

    def __init__(self, links: Iterable[FoundLink], home: str | None):
        self._targets = {link.folder.below(link.name): link.target for link in links}
        self._home = home.rstrip("/") + "/" if home else None

    def __bool__(self) -> bool:
        return bool(self._targets)

    def __contains__(self, place: Folder) -> bool:
        return place in self._targets

    @property
    def places(self) -> list[Folder]:
        return list(self._targets)

    def first_in(self, folder: Folder) -> tuple[Folder, str] | None:
        """The first link on the way to `folder`, with its target."""
        way = [*reversed([*folder.above()]), folder]
        return next(((place, self._targets[place]) for place in way if place in self._targets), None)

    def real(self, folder: Folder) -> Folder | None:
        """`folder` with every link on the way followed.

        None when that leads out of the home, in circles or nobody knows where.
        """
        if not self._targets:
            return folder
        left = folder.split("/")[::-1] if folder else []
        place, followed = Folder(""), 0
        while left:
            part = left.pop()
            if part in ("", "."):
                continue
            if part == "..":
                if not place:
                    return None
                place = place.parent
                continue
            place = place.below(part)
            target = self._targets.get(place)
            if target is None:
                continue
            followed += 1
            inside = self._inside(target)
            if followed > _MOST or inside is None:
                return None
            place = Folder("") if target.startswith("/") else place.parent
            left += inside.split("/")[::-1]
        return place

    def _inside(self, target: str) -> str | None:
        """A link's target as a way from the link's folder, or from the home if it is absolute.

        None where it leads out of the home, or nobody knows where to.
        """
        if not target:
            return None
        if not target.startswith("/"):
            return target
        if self._home is None or not f"{target}/".startswith(self._home):
            return None
        return target[len(self._home) :]
