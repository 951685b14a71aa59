"""What an address shows held against what `where` says of it, and which side is wrong most likely."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple
from urllib.parse import unquote, urlsplit

from kettlepost.core.answering import Answer, ExpectedPage, answer_words, doubt_words, expected_page
from kettlepost.core.layout import PlanLayout, When, bare_and_www
from kettlepost.core.messages import Message, Words, say
from kettlepost.core.names import Address, Folder, HostName, InvalidName, readable
from kettlepost.core.probing.verdicts import Blame, ProbeRow, ProbeVerdict
from kettlepost.core.remedies import Action, Remedy
from kettlepost.core.survey import KnownPages, PagePlace, ProbeTrouble, SeenPage, ShownKind, host_of, page_words

_NOT_ASKED = (ProbeTrouble.NOT_PUBLIC, ProbeTrouble.LATER, ProbeTrouble.NO_ADDRESS)
_OF_A_HOST = ("probe/mend/root", "probe/mend/host", "probe/mend/plan-root")
_SMALLEST = 200
"""Pages of fewer bytes say too little to tell sites apart by them."""
_SILENT = (ProbeTrouble.CANNOT_CONNECT, ProbeTrouble.TIMED_OUT, ProbeTrouble.CLOSED, ProbeTrouble.NOT_HTTP)
"""Why there is no reply, which is wrong whatever was to come."""
_SHOWN = frozenset(("application", "placeholder", "file", "listing", "empty folder"))


class PageComparison(NamedTuple):
    """How a page compares: the verdict, whose fault it is, the evidence, and what mends it."""

    verdict: ProbeVerdict
    blame: Blame | None = None
    because: Sequence[Words] = ()
    mend: Words = ""
    remedy: Remedy | None = None


_AGREES = PageComparison(ProbeVerdict.AGREES)


class PageComparer:
    """Compares pages with answers; `others` are what root addresses of the plan's hosts show, by machine and page."""

    def __init__(self, layouts: PlanLayout, when: When, known: KnownPages, pages: Sequence[SeenPage] = ()):
        self._layouts, self._when, self._known = layouts, when, known
        self._titles = layouts.plan.titles
        self._shown: dict[tuple[str, str], set[str]] = {}
        for page in pages:
            if page.digest and page.status == 200:
                self._shown.setdefault((page.at, page.digest), set()).add(page.end or page.url)

    def rows(self, account: str, pages: Sequence[SeenPage]) -> list[ProbeRow]:
        """The pages of an account held against what is said of their addresses.

        Where a host as a whole shows another site, all that differs below it has that reason.
        """
        found = [(page, *self._compared(account, page)) for page in pages]
        whole = {
            (host_of(page.url), page.at): compared
            for page, compared, _ in found
            if page.url.count("/") == 3 and isinstance(compared.mend, Message) and compared.mend.slug in _OF_A_HOST
        }
        told = []
        for page, compared, expected in found:
            cause = whole.get((host_of(page.url), page.at))
            if cause is not None and compared.verdict is ProbeVerdict.DIFFERS and compared is not cause:
                compared = compared._replace(blame=cause.blame, mend=cause.mend, remedy=cause.remedy)
            told.append(
                ProbeRow(
                    account, "page", page.url, page.at, compared.verdict, answer_words(expected.answer),
                    page_words(page, self._titles), compared.blame, list(compared.because), compared.mend,
                    compared.remedy, notes=page_notes(page),
                )
            )  # fmt: skip
        return told

    def _compared(self, account: str, page: SeenPage) -> tuple[PageComparison, ExpectedPage]:
        expected = expected_page(self._layouts, page.url, self._when, page.signed_in)
        found = self._by_status(account, page, expected)
        if found.verdict is ProbeVerdict.DIFFERS:
            is_unknown = expected.answer.kind in ("unknown", "not ours") and page.trouble not in _SILENT
            if is_unknown or not self._is_promised(page.url):
                found = PageComparison(ProbeVerdict.UNKNOWN)
            elif self._is_claimed_twice(page.url):
                found = PageComparison(ProbeVerdict.UNKNOWN, because=[say("probe/page/claimed-twice")])
            elif not expected.is_sure and page.trouble not in _SILENT:
                found = PageComparison(ProbeVerdict.UNKNOWN, because=[*found.because, *_doubts(expected.answer)])
            elif (planned := self._planned(account, page.url)) is not None:
                mend = say("probe/mend/planned", site=planned)
                found = PageComparison(ProbeVerdict.DIFFERS, None, [*found.because, say("probe/page/planned")], mend)
        return found, expected

    def _planned(self, account: str, url: str) -> str | None:
        """The planned installation, or domain, that an address is of; None where what it is of is live."""
        if self._when == "now":
            return None
        address, layout = Address.parse(url), self._layouts.accounts[account]
        mount = layout.tree(self._when).hosts.mount(address)
        if mount is None:
            return None
        names = {address.host, mount.domain.name}
        for one in layout.account.installations:
            is_at = one.address.host in names and f"{address.path}/".startswith(f"{one.address.path}/".lstrip("/"))
            if one.state == "planned" and is_at:
                return str(one.address)
        return str(mount.domain.name) if mount.domain.state == "planned" else None

    def _is_claimed_twice(self, url: str) -> bool:
        """Whether several accounts of the plan have a host, so that which of them answers is for the names to say."""
        there = self._layouts.hosts.get(host_of(url), ())
        return (
            sum(bool(self._layouts.accounts[name].tree(self._when).hosts.get(HostName(host_of(url)))) for name in there)
            > 1
        )

    def _by_status(self, account: str, page: SeenPage, expected: ExpectedPage) -> PageComparison:
        said = expected.answer
        if page.trouble is not None:
            return self._troubled(page, said)
        if page.status is None:
            return self._left(page, expected)
        if expected.leaves:
            return _differs(Blame.SERVER, say("probe/page/stays"), mend=say("probe/mend/redirect", url=expected.leaves))
        if said.kind in ("unknown", "not ours"):
            return PageComparison(ProbeVerdict.UNKNOWN)
        if said.goes_round:
            mended = _differs(Blame.SURVEY, say("probe/page/no-circle"), mend=say("probe/mend/survey"))
            return mended._replace(remedy=self._layouts.accounts[account].surveying)
        if (elsewhere := self._ends_elsewhere(page, expected)) is not None:
            return elsewhere
        if page.url.startswith("http:") and page.end.startswith("http:") and self._is_secure(page.url):
            return _differs(Blame.SERVER, say("probe/page/not-secure"), mend=say("probe/mend/secure"))
        if said.status is not None and page.status != said.status:
            return self._other_status(account, page, said)
        is_shown = said.kind in _SHOWN and page.status < 400
        return self._content(account, page, said) if is_shown else _AGREES

    def _is_secure(self, url: str) -> bool:
        """Whether the plan has a host answer by https."""
        mount = self._layouts.mount(Address.parse(url), self._when)
        return mount is not None and mount.domain.https

    def _is_promised(self, url: str) -> bool:
        """Whether the plan says of a host that it answers by a scheme at all."""
        if url.startswith("http:") or self._is_secure(url):
            return True
        mount = self._layouts.mount(Address.parse(url), self._when)
        return mount is None or mount.account.has_certificate(HostName(host_of(url)))

    def _troubled(self, page: SeenPage, said: Answer) -> PageComparison:
        """A page for which there is no reply, or no end of replies."""
        if page.trouble in (ProbeTrouble.ROUND, ProbeTrouble.TOO_FAR):
            if said.goes_round:
                return _AGREES
            hops = [f"{hop.url} {hop.status}" for hop in page.hops[-4:]]
            return _differs(Blame.SERVER, say("probe/page/round", hops=hops), mend=say("probe/mend/round"))
        if page.trouble in _NOT_ASKED:
            return PageComparison(ProbeVerdict.UNKNOWN, because=[say(page.trouble)])
        return self._no_reply(page)

    def _no_reply(self, page: SeenPage) -> PageComparison:
        trouble = say(page.trouble or ProbeTrouble.CLOSED)
        if page.url.startswith("https:") and not self._is_secure(page.url):
            return PageComparison(ProbeVerdict.UNKNOWN, because=[trouble])
        return _differs(Blame.SERVER, trouble, mend=say("probe/mend/no-reply", machine=page.at))

    def _left(self, page: SeenPage, expected: ExpectedPage) -> PageComparison:
        """A page that sends visitors to a host that is none of the plan."""
        if expected.leaves and _same_place(page.end, expected.leaves):
            return _AGREES
        return self._moved(page, expected)

    def _ends_elsewhere(self, page: SeenPage, expected: ExpectedPage) -> PageComparison | None:
        """A page that sends visitors to another host of the plan, or to another path, than it is said to."""
        if expected.end is None:
            return None
        try:
            end = Address.parse(page.end)
        except InvalidName:
            return None
        base = self._base(expected.answer, expected.end.path)
        is_below = end.path == base or end.path.startswith(f"{base}/".lstrip("/"))
        if end.host == expected.end.host:
            is_same = is_below or (expected.answer.kind != "application" and end.path.rstrip("/") == expected.end.path)
            return None if is_same else self._moved(page, expected)
        if is_below and set(bare_and_www(end.host)) == {end.host, expected.end.host}:
            form = "www" if end.host.startswith("www.") else "bare"
            mend = say("probe/mend/www")
            remedy = Remedy.of(Action.SET_WWW, form, str(end.host).removeprefix("www."))
            return _differs(Blame.PLAN, *_sender(page), mend=mend)._replace(remedy=remedy)
        return self._moved(page, expected)

    def _moved(self, page: SeenPage, expected: ExpectedPage) -> PageComparison:
        """A page that ends elsewhere: what sends visitors there goes, or the redirect comes that was promised."""
        told, to = [*_sender(page), *([] if page.hops else [say("probe/page/stays")])], expected.end
        if expected.leaves or (to is not None and to.host not in (host_of(page.url), host_of(page.end or page.url))):
            scheme = "https" if self._is_secure(f"https://{to}") else "http"
            return _differs(
                Blame.SERVER, *told, mend=say("probe/mend/redirect", url=expected.leaves or f"{scheme}://{to}")
            )
        return _differs(Blame.SERVER, *told, mend=say("probe/mend/leaves", end=host_of(page.end)))

    def _base(self, said: Answer, path: str) -> str:
        """The path below which an application may send visitors as it likes, as to its login: its own address.

        Of anything else it is the very path.
        """
        if said.kind != "application" or said.reach is None or said.reach.folder is None:
            return path
        layout, folder = self._layouts.accounts[said.reach.mount.account.name], said.reach.folder
        found = layout.contents.applications if layout.contents is not None else {}
        own = next((above for above in (folder, *folder.above()) if above in layout.placed or above in found), folder)
        deeper = len(folder.relative_to(own).split("/")) if own != folder else 0
        segments = path.split("/") if path else []
        return "/".join(segments[: len(segments) - deeper]) if deeper <= len(segments) else path

    def _other_status(self, account: str, page: SeenPage, said: Answer) -> PageComparison:
        status = page.status or 0
        told = say("probe/page/status", seen=status, expected=said.status)
        if status >= 500:
            is_away = page.kind is ShownKind.MAINTENANCE
            mend = say("probe/mend/maintenance") if is_away else say("probe/mend/error")
            return _differs(Blame.SERVER, told, mend=mend)
        if status in (401, 403):
            return _differs(Blame.SERVER, told, mend=say("probe/mend/kept-out"))
        if status >= 400:
            stays = self._as_others(page)
            mend = say("probe/mend/not-there")
            return _differs(Blame.SURVEY if said.kind == "file" else Blame.SERVER, told, *stays, mend=mend)
        if said.kind in ("password", "denied"):
            return _differs(Blame.SERVER, told, mend=say("probe/mend/keep-out"))
        return self._another_page(account, page, said, told)

    def _content(self, account: str, page: SeenPage, said: Answer) -> PageComparison:
        """Two pages of the same status: whether what is shown is what is said to be there."""
        file = said.file
        known = self._known.known_as(_account_of(said) or account, file) if file is not None else None
        own = page.size, page.digest
        if known is not None and page.digest:
            return _AGREES if own == known else self._another_page(account, page, said)
        match page.kind:
            case ShownKind.PLACEHOLDER | ShownKind.EMPTY:
                agrees = said.kind == "placeholder"
            case ShownKind.LISTING:
                agrees = said.kind in ("listing", "empty folder")
            case ShownKind.APPLICATION | ShownKind.INSTALLER:
                return self._of_application(account, page, said)
            case ShownKind.PHP_INFO:
                agrees = False
            case _:
                if self._known.places(*own):
                    return self._another_page(account, page, said)
                if said.kind in ("listing", "empty folder"):
                    return self._another_page(account, page, said)
                return self._unmarked(account, page, said)
        return _AGREES if agrees else self._another_page(account, page, said)

    def _of_application(self, account: str, page: SeenPage, said: Answer) -> PageComparison:
        held = said.shown.held
        known = held.application if held is not None else None
        if known is None or known.id != page.what:
            if said.kind == "file" and known is None:
                return self._unmarked(account, page, said)
            return self._another_page(account, page, said)
        if page.kind is ShownKind.INSTALLER:
            told = say("probe/page/installer", application=known.shown)
            return _differs(Blame.APPLICATION, told, mend=say("probe/mend/installer", application=known.shown))
        return _AGREES

    def _unmarked(self, account: str, page: SeenPage, said: Answer) -> PageComparison:
        """A page of which nothing tells whose it is, unless another host that leads elsewhere shows the very same."""
        if self._as_others(page):
            return self._another_page(account, page, said)
        return PageComparison(ProbeVerdict.UNKNOWN, because=[say("probe/page/no-mark")])

    def _another_page(self, account: str, page: SeenPage, said: Answer, *told: Words) -> PageComparison:
        """Something else is shown than is said: whose it is, and so which side is wrong."""
        if page.kind is ShownKind.INSTALLER:
            told = (*told, say("probe/page/installer", application=page.what))
            return _differs(Blame.APPLICATION, *told, mend=say("probe/mend/installer", application=page.what))
        if page.kind is ShownKind.PHP_INFO:
            return _differs(Blame.SURVEY, *told, mend=say("probe/mend/phpinfo"))
        places = self._known.places(page.size, page.digest)
        if places:
            place = self._nearest(account, places)
            reached = self._addresses(place)
            at = say("probe/page/shown-at", addresses=reached) if reached else None
            whose = say("probe/page/of-file", place=place.folder.below(place.file).shown, account=place.account, at=at)
            if _is_told_so(self._layouts, account, page, place):
                mend = say("probe/mend/plan-root", root=place.folder.shown, host=readable(host_of(page.url)))
                return _differs(Blame.PLAN, *told, whose, say("probe/page/configured-so"), mend=mend)
            folder = said.shown.place
            mend = say("probe/mend/root", host=readable(host_of(page.url)), folder=folder.shown)
            return _differs(Blame.SERVER, *told, whose, *self._as_others(page), mend=mend)
        others = self._as_others(page)
        if others:
            return _differs(Blame.SERVER, *told, *others, mend=say("probe/mend/host", host=readable(host_of(page.url))))
        if page.kind is ShownKind.PLACEHOLDER and said.kind in ("application", "file"):
            mend = say("probe/mend/placeholder", host=readable(host_of(page.url)))
            return _differs(Blame.SERVER, *told, say("probe/page/placeholder", kind=page.what), mend=mend)
        return _differs(Blame.SURVEY, *told, say("probe/page/changed"), mend=say("probe/mend/survey"))._replace(
            remedy=self._layouts.accounts[account].surveying
        )

    def _nearest(self, account: str, places: Sequence[PagePlace]) -> PagePlace:
        return next((one for one in places if one.account == account), places[0])

    def _addresses(self, place: PagePlace) -> list[str]:
        layout = self._layouts.accounts.get(place.account)
        found = layout.tree(self._when).addresses_of(place.folder) if layout is not None else []
        return [str(one) for one in found[:3]]

    def _as_others(self, page: SeenPage) -> list[Words]:
        """The other hosts of the machine that show the very same, and that lead to another folder."""
        if not page.digest or page.size < _SMALLEST:
            return []
        end = page.end or page.url
        own = self._leads_to(end)
        others = {
            other for other in self._shown.get((page.at, page.digest), ())
            if host_of(other) != host_of(end) and (leads := self._leads_to(other)) is not None and leads != own
        }  # fmt: skip
        return [say("probe/page/as-others", hosts=sorted(set(map(host_of, others))))] if others else []

    def _leads_to(self, url: str) -> tuple[str, Folder] | None:
        try:
            reach = self._layouts.reach(Address.parse(url), self._when)
        except InvalidName:
            return None
        return (reach.mount.account.name, reach.folder) if reach is not None and reach.folder is not None else None


def page_notes(page: SeenPage) -> list[Words]:
    """What is good to know of a page, whatever it was to show."""
    told: list[Words] = []
    if page.is_fresh:
        told.append(say("probe/note/fresh"))
    if page.keeps_out:
        told.append(say("probe/note/keeps-out", by=page.keeps_out))
    if page.mixed:
        told.append(say("probe/note/mixed", number=page.mixed))
    if page.cookies:
        told.append(say("probe/note/cookies", names=page.cookies))
    return told


def _doubts(found: Answer) -> list[Words]:
    return [doubt_words(doubt) for doubt in found.doubts[:2]]


def _differs(blame: Blame, *because: Words, mend: Words = "") -> PageComparison:
    return PageComparison(ProbeVerdict.DIFFERS, blame, list(because), mend)


def _sender(page: SeenPage) -> list[Words]:
    """Who sends visitors on, where that is not the very address that was asked."""
    by = page.hops[-1] if page.hops else None
    is_itself = by is None or by.url == page.url
    return [] if is_itself or by is None else [say("probe/page/leaves", url=by.url, end=page.end)]


def _same_place(one: str, other: str) -> bool:
    first, second = urlsplit(one), urlsplit(other if "://" in other else f"http://{other}")
    paths = [unquote(part.path).strip("/") for part in (first, second)]
    return (first.hostname, paths[0]) == (second.hostname, paths[1])


def _account_of(said: Answer) -> str | None:
    return said.reach.mount.account.name if said.reach is not None else None


def _is_told_so(layouts: PlanLayout, account: str, page: SeenPage, place: PagePlace) -> bool:
    """Whether the server's configuration, as it was read in, leads a host to the very folder whose page it shows."""
    own = layouts.accounts[account]
    outside, host = own.outside, HostName(host_of(page.url))
    if outside is None or place.account != account:
        return False
    return any(one.host == host and one.root == str(place.folder) for one in outside.hosts)
