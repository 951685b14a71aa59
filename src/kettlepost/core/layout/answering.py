"""What answers at an address now, as far as the survey tells."""

from __future__ import annotations

from typing import Literal, NamedTuple

from kettlepost.core.layout.account import AccountLayout
from kettlepost.core.layout.contents import Contents
from kettlepost.core.layout.joining import Layout, Reach
from kettlepost.core.names import Address, Folder, printable

Kind = Literal[
    "application", "placeholder", "file", "listing", "empty folder", "nothing", "redirect", "unknown", "not ours"
]


class Seen(NamedTuple):
    """What a server shows for a folder or file; `reason` is how a placeholder is known as one."""

    kind: Kind
    words: str
    reason: str = ""


class Answer(NamedTuple):
    """What stands behind an address: the kind for programs, the words for people.

    A folder with files but none of the index files is a "listing", which a server shows or
    refuses as it is set up. "unknown" means that no survey tells.
    """

    kind: Kind
    words: str
    reach: Reach | None = None


def answer(layout: Layout, address: Address) -> Answer:
    """What answers at `address` now."""
    reach = layout.reach(address)
    if reach is None:
        return Answer("not ours", f"not one of ours: no domain of the plan is called {address.host}")
    if reach.folder is None:
        return Answer("redirect", f"a redirect to {_redirect_target(layout, reach)}", reach)
    account = layout.accounts[reach.mount.account.name]
    if account.contents is None:
        command = f"kettlepost survey {account.name} --from PATH"
        return Answer("unknown", f"unknown: {account.name} was not surveyed yet ({command})", reach)
    seen = answer_in(account, account.contents, reach.folder)
    return Answer(seen.kind, seen.words + (f" ({seen.reason})" if seen.reason else ""), reach)


def answer_in(account: AccountLayout, contents: Contents, folder: Folder) -> Seen:
    """What a server shows for `folder` of an account, which may also be a file's path."""
    there = contents.folders.get(folder)
    if there is None:
        return _beside_folders(account, contents, folder)
    if there.trouble:
        return Seen("unknown", f"unknown: the survey could not read {folder.shown} ({printable(there.trouble)})")
    index = next((name for name in account.plan.settings.index_files if name in there.index), None)
    found = contents.applications.get(folder)
    if index is None:
        if found:
            return Seen("application", f"{_title(account, folder, contents)}, found by {printable(found.evidence[0])}")
        if contents.is_empty(folder):
            return Seen("empty folder", "an empty folder")
        return Seen("listing", "no index file: a listing or an error")
    if not contents.survey.contents:
        return Seen("file", f"{index}, perhaps a placeholder: a listing does not tell what it says")
    page = next((page for page in contents.placeholders(folder) if page.file == index), None)
    if page:
        behind = f"; {_title(account, folder, contents)} behind it is not seen" if found else ""
        return Seen("placeholder", f"a placeholder page, {index}{behind}", printable(page.because))
    known = account.plan.applications.get(found.application) if found else None
    if known and index not in known.index_files:
        return Seen("file", f"{index}, a page of its own; {_title(account, folder, contents)} behind it is not seen")
    if found:
        return Seen("application", f"{_title(account, folder, contents)}, through {index}")
    return Seen("file", f"{index}, a page of its own")


def _title(account: AccountLayout, folder: Folder, contents: Contents) -> str:
    found = contents.applications[folder]
    return " ".join(filter(None, (account.title(found.application), printable(found.version))))


def _beside_folders(account: AccountLayout, contents: Contents, path: Folder) -> Seen:
    """What answers for a path that is no folder: a file, or nothing."""
    holder = contents.folders.get(path.parent) if path else None
    above = contents.application_above(path)
    under = f"; it lies under {_title(account, above.folder, contents)} in {above.folder.shown}" if above else ""
    if holder is None:
        return Seen("nothing", f"nothing: {path.shown} does not exist{under}")
    if path.name in (*holder.names, *holder.index, *holder.control):
        return Seen("file", f"the file {printable(path.name)}")
    if len(holder.names) < holder.files:
        known = f"{holder.files} files in {path.parent.shown}, not all of which the survey lists"
        return Seen("unknown", f"no folder; perhaps one of the {known}{under}")
    return Seen("nothing", f"nothing: {path.shown} does not exist{under}")


def _redirect_target(layout: Layout, reach: Reach) -> Address | str:
    domain = reach.mount.domain
    names = {known.name: known for known in reach.mount.account.domains}
    while domain.redirect_to is None and domain.of is not None:
        domain = names[domain.of]
    return domain.redirect_to or "nowhere"
