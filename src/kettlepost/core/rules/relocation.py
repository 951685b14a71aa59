"""The work of moving an installation that is live to another address or folder of its account."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence

from msgspec.structs import replace

from kettlepost.core.answering import control_text
from kettlepost.core.layout import AccountLayout, HoldKind, holds_in
from kettlepost.core.messages import say
from kettlepost.core.moving import lines_of_promise, redirect_lines, web_address, without_them
from kettlepost.core.names import Folder, unprintable
from kettlepost.core.plan import Change, Installation, Moved
from kettlepost.core.rules.moves import carried, linked_in, setting_aside
from kettlepost.core.rules.ways_out import setting
from kettlepost.core.steps import (
    AddLines,
    BesideFiles,
    BindLicence,
    Configure,
    Confirm,
    CopyFolder,
    EditLine,
    LookAgain,
    LookAtFile,
    OpenPage,
    Relocating,
    SendOldOn,
    SetAsideFolder,
    Step,
    WriteFrontFile,
)
from kettlepost.core.steps import survey_after as surveyed_after
from kettlepost.core.survey import FoundControl


def relocation_steps(layout: AccountLayout, installation: Installation) -> list[Relocating]:
    """The whole work of moving an installation, from the copy to the plan that says so; none where nothing is known
    of where it lies, or is to.

    The old files stay until the new address was looked at and the old one is sent on.
    """
    old, new = layout.comes_from(installation), layout.folder_of(installation)
    if old is None or new is None:
        return []
    steps: list[Relocating] = []
    kept = stays_in(layout, installation, old, new)
    if old != new:
        steps.append(CopyFolder(layout.name, old, new, kept))
        steps += written_anew(layout, installation, old, new)
        steps += carried(layout, old, new)
    front = layout.reach(installation.address) if installation.folder is not None else None
    if front is not None and front != new:
        steps.append(WriteFrontFile(layout.name, front, layout.front_file(installation), new))
        rewrites = _rewrites_at(layout, installation, new) if old == new else ()
        if rewrites:
            steps.append(AddLines(layout.name, front, ".htaccess", rewrites))
    elif old == new:
        steps += written_anew(layout, installation, old, new)
    steps += _taken_out(layout, installation, new) if old == new else ()
    if installation.address_now is not None:
        own = str(installation.address_now)
        steps.append(Configure(layout.name, own, new, address=web_address(layout, installation.address)))
    bound = installation.licensed_to
    if bound is not None and bound != installation.address:
        steps.append(BindLicence(layout.name, str(installation.address), str(bound)))
    steps.append(OpenPage(layout.name, str(installation.address)))
    aside: list[SetAsideFolder] = []
    if old != new:
        aside.append(setting_aside(layout, old, {*kept, *linked_in(layout, old), *_that_stay(layout, old)}))
    sent = list(_sent_on(layout, installation, [*steps, *aside]))
    later = [one for one in sent if aside and isinstance(one, AddLines) and one.folder == old]  # it would be set aside
    looks = [LookAgain(layout.name)] if aside else []  # nothing is set aside before its copy was seen
    steps += [*(one for one in sent if one not in later), *looks, *aside, *later]
    return [*steps, LookAgain(layout.name), Confirm(layout.name, str(installation.address))]


def written_anew(layout: AccountLayout, installation: Installation, old: Folder, new: Folder) -> Iterator[EditLine]:
    """The lines of the control file that comes along which name the old path, with the new one in its place.

    An application that writes that file itself writes the same once it is told its new address.
    """
    was, goes = installation.address_now, installation.address
    if was is None or was.path == goes.path or layout.contents is None or not layout.obeys_control_files:
        return
    control = layout.contents.htaccess(old)
    own = set(_own_lines(layout, installation, old, control))
    back = _sends_back(layout, installation, old, control) if old != new else set()
    for kept in control.lines if control is not None else ():
        number, _, line = kept.partition(" ")
        line = unprintable(line)
        if not number.isdigit():  # somebody has changed the survey
            continue
        if int(number) in back:
            yield EditLine(layout.name, new, ".htaccess", int(number), line, "#")
        if line not in own or int(number) in back:
            continue
        anew = _with_path(line, was.path, goes.path)
        if anew != line and int(number):
            yield EditLine(layout.name, new, ".htaccess", int(number), line, anew)


def _rewrites_at(layout: AccountLayout, installation: Installation, lies: Folder) -> tuple[str, ...]:
    """The lines by which an application takes paths that are not there, as they are for its new address."""
    was, contents = installation.address_now, layout.contents
    if was is None or contents is None or not layout.obeys_control_files:
        return ()
    control = contents.htaccess(lies)
    kept = _own_lines(layout, installation, lies, control)
    lines = [_with_path(line, was.path, installation.address.path) for line in kept if _OF_REWRITING.match(line)]
    return tuple(lines) if any(line.lstrip().lower().startswith("rewriterule") for line in lines) else ()


def _sends_back(
    layout: AccountLayout, installation: Installation, folder: Folder, control: FoundControl | None
) -> set[int]:
    """The lines that send visitors of the new address to the old one, from when it moved there."""
    old = installation.address_now
    if old is None or control is None:
        return set()
    text = control_text(control.lines)
    reverse = [Moved(installation.address, old, permanent=is_permanent) for is_permanent in (False, True)]
    return {number for moved in reverse for number in lines_of_promise(layout, moved, folder, text)}


def _taken_out(layout: AccountLayout, installation: Installation, folder: Folder) -> Iterator[LookAtFile]:
    """That the lines go from a control file that stays which send visitors of the new address to the old one."""
    control = layout.contents.htaccess(folder) if layout.contents is not None else None
    if _sends_back(layout, installation, folder, control):
        says = say("relocation/sends-back", new=installation.address, old=installation.address_now)
        yield LookAtFile(layout.name, folder, ".htaccess", says)


def _own_lines(
    layout: AccountLayout, installation: Installation, folder: Folder, control: FoundControl | None
) -> list[str]:
    """The lines of a control file, without those by which the old address is kept already."""
    text = control_text(control.lines) if control is not None else ""
    for moved in layout.account.moved:
        if moved.old == installation.address_now:
            text = without_them(layout, moved, folder, text)
    return text.split("\n")


_OF_REWRITING = re.compile(r"\s*(?:#|</?IfModule|Rewrite)", re.IGNORECASE)
_OF_PATHS = re.compile(
    r"^(\s*(?:RewriteBase|FallbackResource|ErrorDocument\s+\d+|RewriteRule\s+(?:\"[^\"]*\"|\S+))\s+\"?)(/\S*)",
    re.IGNORECASE,
)
"""Directives that name a path from a host's root, up to that."""


def _with_path(line: str, old: str, new: str) -> str:
    """A line of a control file with one path, as it is written from a host's root, in the place of another."""
    if old:
        found = re.compile(rf"(?<![\w./%}}-])/{re.escape(old)}(?=[/\s\"?$(]|\\|$)")
        return found.sub(lambda at: f"/{new}" if new else ("" if _goes_on(line, at.end()) else "/"), line)
    return _OF_PATHS.sub(lambda at: f"{at[1]}/{new}{at[2]}", line)


def _goes_on(line: str, at: int) -> bool:
    """Whether a slash follows, so that none is to be written."""
    return line[at : at + 1] == "/"


def stays_in(layout: AccountLayout, installation: Installation, old: Folder, new: Folder) -> tuple[Folder, ...]:
    """What others have in the folder that an installation leaves, and where it is to lie, if that is in there."""
    holds = holds_in(layout, old, installation.application, installation.number)
    stays = {hold.place for hold in holds if hold.place != old and hold.kind is not HoldKind.LINK}
    return tuple(sorted({*stays, new} if new.is_inside(old) else stays))


def _that_stay(layout: AccountLayout, old: Folder) -> Iterator[Folder]:
    """The folder itself, where a name leads there."""
    if old in layout.mounts or old in layout.tree("now").mounts:
        yield old


def settling(layout: AccountLayout, installation: Installation) -> Change:
    """What is written once an installation has moved."""
    return setting(layout, installation, address_now=None, folder_now=None)


def _sent_on(
    layout: AccountLayout, installation: Installation, steps: Iterable[Step]
) -> Iterator[AddLines | SendOldOn]:
    """The lines that keep the old address, as they will do once all else is done; they are proven for then."""
    after = _settled(layout, installation, [step for step in steps if not isinstance(step, BesideFiles)])
    for moved in layout.account.moved:
        if moved.old != installation.address_now:
            continue
        found = redirect_lines(after, moved) if after is not None else None
        if found is not None:
            yield AddLines(layout.name, found.folder, ".htaccess", found.lines, found.is_first)
        else:
            yield SendOldOn(layout.name, str(moved.old), web_address(layout, moved.to))


def _settled(layout: AccountLayout, installation: Installation, steps: Sequence[Step]) -> AccountLayout | None:
    if layout.survey is None:
        return None
    settled = replace(installation, address_now=None, folder_now=None)
    account = layout.account.with_installation(settled, installation.number)
    after = surveyed_after(layout.survey, steps)
    return layout.changed(account, survey=replace(after, names=layout.survey.names))  # none asked for is among them
