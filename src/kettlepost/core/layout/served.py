"""What a server shows for a folder or file of an account, in words."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal, NamedTuple

from kettlepost.core.layout.folder_state import HTACCESS, FolderState, Held
from kettlepost.core.layout.mounts import Mount
from kettlepost.core.layout.serving import Given, Request, SurveyedSite, given
from kettlepost.core.names import Address, Folder, HostName, printable
from kettlepost.core.remedies import Do, Remedy
from kettlepost.core.webserver import Reply, Visitor
from kettlepost.core.words import listed

AnswerKind = Literal[
    "application",
    "placeholder",
    "file",
    "listing",
    "empty folder",
    "nothing",
    "redirect",
    "password",
    "denied",
    "error",
    "unknown",
    "not ours",
]


Certainty = Literal["certain", "depends", "unknown"]


class Served(NamedTuple):
    """What a server shows for a folder or file.

    `file` is the very file that is shown, where one is known; `reason` is how a placeholder is
    known as one; `steps` are the rules and control files that had a say; `remedy` is what would
    tell more. `goes` is where a control file sends visitors, `depends` what it all depends on, `status` the
    server's (RFC 9110 section 15), where it can be told.
    """

    kind: AnswerKind
    words: str
    reason: str = ""
    file: Folder | None = None
    steps: tuple[str, ...] = ()
    remedy: Remedy | None = None
    goes: Address | None = None
    depends: tuple[str, ...] = ()
    status: int | None = None

    @property
    def whole_words(self) -> str:
        """The words, with how a placeholder is known as one."""
        return f"{self.words} ({self.reason})" if self.reason else self.words


def certainty(kind: str, depends: Sequence[str]) -> Certainty:
    """How sure an answer is."""
    return "unknown" if kind == "unknown" else "depends" if depends else "certain"


_SHOWN_TO_MEMBERS = ("application", "placeholder", "file", "listing", "empty folder", "nothing")


def guarded(mount: Mount, seen: Served, visitor: Visitor) -> Served:
    """What is seen where the server itself asks for a password, whatever the folder says."""
    if not mount.domain.protected or visitor.is_known or seen.kind not in _SHOWN_TO_MEMBERS:
        return seen
    return seen._replace(kind="password", words=f"asks for a password; behind it {seen.words}", status=401)


def served_at(
    state: FolderState,
    path: Folder,
    mount: Mount | None = None,
    way: Folder | None = None,
    request: Request | None = None,
) -> Served:
    """What a server shows for a folder or file of an account, reached by way of `mount`.

    `way` is the way there as it is written, where that goes through symbolic links.
    """
    if not state.is_known:
        name = state.layout.name
        return Served("unknown", f"unknown: {name} was not surveyed yet", remedy=Remedy.of(Do.TAKE_SURVEY, name))
    if mount is None or mount.way is None:
        return _in_folder(state, path)
    way = path if way is None else way
    request = request or _request(mount, way)
    rule = state.layout.path_rule(request.address, "password", "denied", "redirect")
    if rule is None:
        return _reached(state, path, mount, way, request)
    where = state.layout.account.place(rule)
    seen = _by_server(state, mount, request, path)
    return seen._replace(steps=(f"the server has a rule for {rule.address} and all below it ({where})", *seen.steps))


def _reached(state: FolderState, path: Folder, mount: Mount, way: Folder, request: Request) -> Served:
    """What is shown of what lies where an address leads, by the server's own rules or by control files."""
    stands = state.stands(path)
    is_hidden = path.name[:3].lower() == ".ht"
    is_odd = stands.kind == "below a file" or is_hidden or not request.is_plain
    if state.layout.account.settings.web_server != "apache":
        is_odd = is_odd or stands.kind in ("nothing", "unknown")
    if (is_odd and not state.trouble(stands.deepest)) or SurveyedSite(state).has_say(_shortened(way, stands.rest)):
        return _by_server(state, mount, request, path)
    return _in_folder(state, path)


def _request(mount: Mount, way: Folder) -> Request:
    rest = way.relative_to(mount.way) if mount.way is not None and way != mount.way else ""
    host = HostName(mount.address.host.replace("*", "any"))
    return Request(Address(host, mount.address.path).below(rest))


def _in_folder(state: FolderState, path: Folder) -> Served:
    stands = state.stands(path)
    if stands.kind == "folder":
        return with_status(_folder_served(state, path, list(state.layout.plan.settings.index_files)))
    return with_status(_file_served(state, path, stands.kind, stands.deepest))


_STATUS = {"application": 200, "placeholder": 200, "file": 200, "nothing": 404, "password": 401}


def with_status(seen: Served) -> Served:
    """With the status that goes with what is shown, where that is one."""
    return seen if seen.status is not None else seen._replace(status=_STATUS.get(seen.kind))


def _by_server(state: FolderState, mount: Mount, request: Request, path: Folder) -> Served:
    """What a server gives where control files have a say, carried through them as it does."""
    found = given(state, SurveyedSite(state), mount, request)
    seen = _told(state, found.reply, path, found)
    if found.behind is not None:
        behind = _told(state, found.behind, path, found)
        seen = seen._replace(words=f"{seen.words}; behind it {behind.words}", file=behind.file)
    lines = tuple(f"{printable(Folder(had.folder).below(HTACCESS))} line {had.line}: {printable(had.text)}"
                  for had in found.reply.had)  # fmt: skip
    depends = tuple(
        on if had is None else f"{on} ({printable(Folder(had.folder).below(HTACCESS))} line {had.line})"
        for had, on in dict.fromkeys((*found.reply.doubts, *(found.behind.doubts if found.behind else ())))
    )
    if depends and seen.kind != "unknown":
        seen = seen._replace(words=f"{seen.words}; it depends on {listed(depends, 2)}", depends=depends)
        if state.stands(path).kind == "unknown" and not state.coming(path.parent) and seen.remedy is None:
            seen = seen._replace(remedy=Remedy.of(Do.TAKE_SURVEY, state.layout.name))
    return seen._replace(steps=(*lines, *seen.steps), goes=found.goes)


def _told(state: FolderState, reply: Reply, path: Folder, found: Given) -> Served:
    """A server's reply in words."""
    seen = _reply_in_words(state, reply, path, found)
    return seen._replace(status=None if seen.kind == "unknown" else reply.status)


def _reply_in_words(state: FolderState, reply: Reply, path: Folder, found: Given) -> Served:
    stands = state.stands(path)
    if reply.asks_password:
        page = f", with the page {printable(reply.file)}" if reply.file is not None else ""
        return Served("password", f"asks for a password{page}")
    if found.elsewhere is not None and reply.location is not None:
        round_ = ", which goes round in circles" if found.goes_round else ""
        return Served("redirect", f"a redirect to {printable(found.elsewhere)} ({reply.status}){round_}")
    if reply.folder is not None:
        return _folder_served(state, state.layout.real(Folder(reply.folder)), [])
    if reply.status == 200 and reply.file is not None:
        if stands.kind == "unknown" and any(had is None for had, _ in reply.doubts):
            return _file_served(state, path, stands.kind, stands.deepest)
        return _page_served(state, state.layout.real(Folder(reply.file)), path, reply)
    page = f", with the page {printable(reply.file)}" if reply.file is not None else ""
    if reply.status in (404, 410):
        if reply.status == 404 and not page and stands.kind in ("nothing", "unknown") and reply.handed is None:
            return _file_served(state, path, stands.kind, stands.deepest)
        if reply.status == 404 and not page and reply.handed is not None:
            by = printable(Folder(reply.handed.folder).below(HTACCESS))
            return Served("nothing", f"nothing: {by} sends the path to what does not exist")
        gone = "does not exist" if reply.status == 404 else "is gone for good (410)"
        if stands.kind == "file" and reply.status == 404:
            gone = "is a file, and nothing lies below it"
        return Served("nothing", f"nothing: {path.shown} {gone}{page}")
    if reply.status in (401, 403):
        return Served("denied", f"denied ({reply.status}){page}")
    return Served("error", f"an error ({reply.status}){page}")


def _page_served(state: FolderState, file: Folder, path: Folder, reply: Reply) -> Served:
    """What a file is that answers for a path: its index file, itself, or one that a control file hands it to."""
    folder, name = file.parent, file.name
    if folder == path:
        return _index_served(state, folder, name)
    if file == path:
        return Served("file", f"the file {printable(name)}", file=file)
    held = state.held(folder)
    if held is not None:
        return Served("application", f"{held.words}, through {printable(name)}", file=file)
    last = reply.handed or (reply.had[-1] if reply.had else None)
    by = f", to which {printable(Folder(last.folder).below(HTACCESS))} sends the path" if last is not None else ""
    if state.layout.account.settings.web_server != "apache":
        by = ", shown for what is not there"
    return Served("file", f"{printable(name)}{by}", file=file)


def _shortened(way: Folder, rest: str) -> Folder:
    """`way` without the part of it that leads to nothing."""
    for _ in rest.split("/") if rest else ():
        way = way.parent
    return way


def _folder_served(state: FolderState, folder: Folder, order: list[str]) -> Served:
    trouble = state.trouble(folder)
    if trouble:
        return Served("unknown", f"unknown: the survey could not read {folder.shown} ({printable(trouble)})")
    held = state.held(folder)
    index = next((name for name in order if state.has(folder, name)), None)
    if index is None:
        if any(state.has(folder, name) is None for name in order) and held is None:
            return Served("unknown", f"unknown: the survey does not list all files of {folder.shown}")
        if held is not None:
            return Served("application", f"{held.words}, found by {held.by}")
        if state.is_empty(folder):
            return Served("empty folder", "an empty folder")
        return Served("listing", "no index file: a listing or an error")
    return _index_served(state, folder, index)


def _index_served(state: FolderState, folder: Folder, index: str) -> Served:
    """What a folder's index file shows."""
    held = state.held(folder)
    file = folder.below(index)
    through = state.through(folder, index)
    if through is not None:
        return Served("application", through, file=file)
    contents = state.layout.contents
    page = state.placeholder(folder, index)
    if page is not None:
        behind = f"; {held.words} behind it is not seen" if held else ""
        return Served("placeholder", f"a placeholder page, {index}{behind}", printable(page.because), file)
    if held is not None and held.application is not None and index not in held.application.index_files:
        return Served("file", f"{index}, a page of its own; {held.words} behind it is not seen", file=file)
    if held is not None:
        return Served("application", f"{held.words}, through {index}", file=file)
    own = _own_part(state, folder)
    if own is not None:
        base, whole = own
        return Served("application", f"{whole.words}, through {printable(file.relative_to(base))}", file=file)
    if contents is not None and not contents.survey.contents:
        return Served("file", f"{index}, perhaps a placeholder: a listing does not tell what it says", file=file)
    maybe = contents.perhaps_placeholders(folder) if contents is not None else []
    unsure = next((page for page in maybe if page.file == index), None)
    if unsure is not None:
        return Served("file", f"{index}, perhaps a placeholder: look at it", printable(unsure.because), file)
    return Served("file", f"{index}, a page of its own", file=file)


def _own_part(state: FolderState, folder: Folder) -> tuple[Folder, Held] | None:
    """The application of which a folder is a part of its own, such as where it is looked after, and where that lies."""
    above = state.held_above(folder)
    if above is None or above[1].application is None or above[0] == folder:
        return None
    inside = f"{folder.relative_to(above[0])}/"
    own = any(inside.startswith(f"{part.strip('/')}/") for part in above[1].application.folders)
    return above if own else None


def _file_served(state: FolderState, path: Folder, kind: str, deepest: Folder) -> Served:
    """What answers for a path that is no folder: a file, or nothing."""
    above = state.held_above(path)
    lies = under(state, path)
    if kind == "file":
        return Served("file", f"the file {printable(path.name)}", file=path)
    link = state.layout.links.first_in(path) if state.layout.links else None
    if kind == "unknown" and link is not None:
        leads = f"to {printable(link[1])}, where the survey did not look" if link[1] else "whose target was not told"
        return Served("unknown", f"unknown: {link[0].shown} is a symbolic link {leads}")
    is_answered = above is not None and state.when == "planned" and _answers_below(above[1])
    if kind == "unknown" and not is_answered and (coming := state.coming(deepest)):
        return Served("unknown", f"unknown: not there now, but {coming} may bring it")
    if kind == "unknown" and deepest == path.parent:
        if above and is_answered:
            return Served("application", f"{above[1].words}: it answers every path below it")
        trouble = state.trouble(deepest)
        if trouble:
            words = f"unknown: the survey could not read {deepest.shown} ({printable(trouble)})"
            return Served("unknown", words + lies)
        number = state.files_in(deepest)
        known = f"{number} files in {deepest.shown}, whose names were not kept or are of another survey"
        again = Remedy.of(Do.TAKE_SURVEY, state.layout.name)
        return Served("unknown", f"no folder; perhaps one of the {known}{lies}", remedy=again)
    if above and is_answered and above[1].by == "the plan":
        return Served("application", f"{above[1].words}: it answers every path below it")
    return Served("nothing", f"nothing: {path.shown} does not exist{lies}")


def under(state: FolderState, path: Folder) -> str:
    """What a path lies under, where that is an application, to stand behind what is said of it."""
    above = state.held_above(path)
    return f"; it lies under {above[1].words} in {above[0].shown}" if above else ""


def absent(state: FolderState, path: Folder, folder: Folder) -> Served:
    """What answers for a name of a folder of which nothing tells."""
    return _file_served(state, path, "unknown", folder)


def _answers_below(held: Held) -> bool:
    return held.application is not None and held.application.answers_below
