"""What a file or a folder of an account is to a visitor: an application, a placeholder, a page of its own."""

from __future__ import annotations

from kettlepost.core.answering.facts import Detail, Shown
from kettlepost.core.layout import FolderState, Occupant
from kettlepost.core.names import Folder
from kettlepost.core.webserver import Reply


def unread(state: FolderState, folder: Folder) -> Shown | None:
    """A folder that the survey could not read."""
    trouble = state.trouble(folder)
    return Shown("unknown", Detail.NOT_READ, folder, name=trouble) if trouble else None


def page_shown(state: FolderState, file: Folder, path: Folder, reply: Reply) -> Shown:
    """What a file is that answers for a path: its index file, itself, or one that a control file hands it to."""
    folder, name = file.parent, file.name
    if folder == path:
        return index_shown(state, folder, name)
    if file == path:
        return Shown("file", Detail.FILE, path, file, name)
    held = state.held(folder)
    if held is not None:
        return Shown("application", Detail.THROUGH, folder, file, name, held)
    if state.layout.server.kind != "apache":
        return Shown("file", Detail.FALLBACK, folder, file, name)
    last = reply.handed or (reply.lines[-1] if reply.lines else None)
    if reply.handed is None and last is not None and last.file:
        return Shown("file", Detail.LED_ELSEWHERE, folder, file, name)
    return Shown("file", Detail.HANDED, folder, file, name, by=last)


def folder_shown(state: FolderState, folder: Folder) -> Shown:
    """What a folder is that has no index file."""
    if (trouble := unread(state, folder)) is not None:
        return trouble
    held = state.held(folder)
    if held is not None:
        return Shown("application", Detail.FOUND_BY, folder, held=held)
    if state.is_empty(folder):
        return Shown("empty folder", Detail.EMPTY, folder)
    return Shown("listing", Detail.NO_INDEX, folder)


def index_shown(state: FolderState, folder: Folder, index: str) -> Shown:
    """What a folder's index file shows."""
    held, file = state.held(folder), folder.below(index)
    if (through := state.through(folder, index)) is not None:
        return Shown("application", Detail.STARTED_FROM, folder, file, through)
    contents = state.layout.contents
    page = state.placeholder(folder, index)
    if page is not None:
        return Shown("placeholder", Detail.PLACEHOLDER, folder, file, index, held, because=page.because)
    if held is not None and held.application is not None and index not in held.application.index_files:
        return Shown("file", Detail.PAGE_BEFORE, folder, file, index, held)
    if held is not None:
        return Shown("application", Detail.THROUGH, folder, file, index, held)
    own = _own_part(state, folder)
    if own is not None:
        base, whole = own
        return Shown("application", Detail.THROUGH, folder, file, str(file.relative_to(base)), whole)
    if contents is not None and not contents.survey.contents:
        return Shown("file", Detail.NOT_LOOKED_INTO, folder, file, index)
    maybe = contents.perhaps_placeholders(folder) if contents is not None else []
    unsure = next((page for page in maybe if page.file == index), None)
    if unsure is not None:
        return Shown("file", Detail.PERHAPS_PLACEHOLDER, folder, file, index, because=unsure.because)
    return Shown("file", Detail.OWN_PAGE, folder, file, index)


def _own_part(state: FolderState, folder: Folder) -> tuple[Folder, Occupant] | None:
    """The application of which a folder is a part of its own, such as where it is looked after, and where that lies."""
    above = state.held_above(folder)
    if above is None or above[1].application is None or above[0] == folder:
        return None
    inside = f"{folder.relative_to(above[0])}/"
    own = any(inside.startswith(f"{part.strip('/')}/") for part in above[1].application.folders)
    return above if own else None


def path_shown(state: FolderState, path: Folder) -> Shown:
    """What answers for a path at which no folder lies: a file, or nothing."""
    stands = state.stands(path)
    kind, deepest = stands.kind, stands.deepest
    base, held = state.held_above(path) or (Folder(""), None)
    if kind == "file":
        return Shown("file", Detail.FILE, path, path, path.name)
    link = state.layout.links.first_in(path) if state.layout.links else None
    if kind == "unknown" and link is not None:
        return Shown("unknown", Detail.BEHIND_LINK, link[0], name=link[1] or "")
    answers_below = held is not None and held.application is not None and held.application.answers_below
    is_answered = answers_below and state.when == "planned"
    if kind == "unknown" and not is_answered and (coming := state.coming(deepest)):
        return Shown("unknown", Detail.MAY_COME, path, name=coming)
    if held is not None and is_answered and (not held.by or (kind == "unknown" and deepest == path.parent)):
        return Shown("application", Detail.ANSWERS_BELOW, path, held=held, base=base)
    if kind == "unknown" and deepest == path.parent:
        if (trouble := unread(state, deepest)) is not None:
            return trouble._replace(held=held, base=base)
        again = state.layout.surveying
        number = state.files_in(deepest)
        return Shown("unknown", Detail.NAME_NOT_KEPT, deepest, held=held, base=base, number=number, remedy=again)
    return Shown("nothing", Detail.NOT_THERE, path, held=held, base=base)
