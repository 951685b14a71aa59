"""Where the pages of surveys lie, by what tells them apart."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from functools import cached_property

from msgspec import Struct

from kettlepost.core.names import Folder
from kettlepost.core.survey.records import Survey


class PagePlace(Struct, frozen=True):
    """Where a page lies that was surveyed."""

    account: str
    folder: Folder
    file: str


class KnownPages:
    """The pages of surveys by what tells them apart: their size and digest."""

    def __init__(self, surveys: Mapping[str, Survey | None], others: Callable[[], Iterable[KnownPages]] | None = None):
        """`others` gives the pages of further surveys, which are looked at where a page is none of these."""
        self._others = others
        self._by_digest: dict[tuple[int, str], list[PagePlace]] = {}
        self._digests: dict[tuple[str, Folder, str], tuple[int, str]] = {}
        for account, survey in surveys.items():
            for page in survey.pages if survey is not None else ():
                own = page.size, page.digest
                self._by_digest.setdefault(own, []).append(PagePlace(account, page.folder, page.file))
                self._digests[account, page.folder, page.file] = own

    def places(self, size: int, digest: str) -> Sequence[PagePlace]:
        """Where a page lies that is the same to the byte; nowhere where none was surveyed."""
        if not digest:
            return ()
        near = self._by_digest.get((size, digest))
        return near if near is not None else self._far.get((size, digest), ())

    @cached_property
    def _far(self) -> dict[tuple[int, str], list[PagePlace]]:
        found: dict[tuple[int, str], list[PagePlace]] = {}
        for other in self._others() if self._others is not None else ():
            for own, places in other._by_digest.items():
                found.setdefault(own, []).extend(places)
        return found

    def known_as(self, account: str, file: Folder) -> tuple[int, str] | None:
        """The size and digest of a file of an account, where it is a page that was surveyed."""
        return self._digests.get((account, file.parent, file.name))
