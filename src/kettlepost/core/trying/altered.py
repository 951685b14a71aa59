"""The addresses that show something else once a way out is gone."""

from __future__ import annotations

from itertools import islice

from kettlepost.core.answering import Answer, answer
from kettlepost.core.layout import AccountLayout, PlanLayout
from kettlepost.core.names import Address, Folder
from kettlepost.core.rules import WayOut
from kettlepost.core.steps import AddLines, ChangeRoot, CopyFolder, DeleteFile, EditLine
from kettlepost.core.survey import CONTROL_NAMES

_OPENED, _ASKED = 20, 100
"""How many folders that move along, and how many addresses below a control file, are opened before and after."""
_SHOWING = ("application", "placeholder", "file", "listing")
"""What visitors get who are let in."""


def altered(views: tuple[PlanLayout, PlanLayout], way: WayOut) -> tuple[str, ...]:
    """The addresses that showed something, or kept visitors out, and show something else then.

    Asked are names that are led elsewhere, and what lies below a control file that goes or says something else; but
    the lines by which a move sends visitors on are said.
    """
    before = next(iter(views[0].accounts.values()))
    hosts = dict.fromkeys(step.host for step in way.steps if isinstance(step, ChangeRoot))
    copied = [step.folder for step in way.steps if isinstance(step, CopyFolder)]
    moves = [step for step in way.steps if isinstance(step, ChangeRoot) and _is_ruled(before, step)]
    asked = [Address(step.host) for step in moves]
    for step in way.steps:
        if isinstance(step, AddLines | EditLine | DeleteFile) and step.file in CONTROL_NAMES:
            asked += _addresses_in(before, step.folder) if not (copied and isinstance(step, AddLines)) else []
    for folder in copied if moves else ():
        begun = (at for place in _begun_in(before, folder) for at in before.addresses_of(place))
        asked += [at for at in begun if at.host in hosts]
    for host in hosts if moves else ():
        domain = before.account.named.get(host)
        entries = before.installations_of.get(domain.number, ()) if domain is not None else ()
        asked += [entry.address for entry in entries if entry.state == "live" and entry.address.host == host][:_OPENED]
    return tuple(str(address) for address in dict.fromkeys(asked) if _differs(views, address))


def _is_ruled(layout: AccountLayout, step: ChangeRoot) -> bool:
    """Whether what answers at a name may hang on where its root lies: a link or a control file is around the two."""
    contents = layout.contents
    if contents is None or layout.links:
        return True
    return any(contents.controls(above) for root in (step.old, step.root) for above in root.above())


def _addresses_in(layout: AccountLayout, folder: Folder) -> list[Address]:
    """The addresses at which something answers in a folder: of names, of what is installed, of what begins in it."""
    mounts, now = layout.tree("now").mounts, []
    for place in (folder, *layout.claimed_inside(folder)[:_ASKED]):
        now += [mount.address for mount in mounts.get(place, ()) if not mount.address.host.startswith("*")]
        now += [entry.address for entry in layout.present.get(place, ()) if entry.state == "live"]
        now += layout.addresses_of(place)[:4]
    begun = (at for place in _begun_in(layout, folder) for at in layout.addresses_of(place)[:4])
    return [*now[:_ASKED], *begun]


def _begun_in(layout: AccountLayout, folder: Folder) -> list[Folder]:
    """The folders inside one in which something begins that people may open."""
    contents = layout.contents
    if contents is None:
        return []
    inside = map(Folder, contents.inside(folder))
    begun = (place for place in inside if place in contents.applications or contents.site(place) is not None)
    return list(islice(begun, _OPENED))


def _differs(views: tuple[PlanLayout, PlanLayout], address: Address) -> bool:
    was, now = (answer(view, address, "now") for view in views)
    if now.goes is not None and was.goes is None:
        now = answer(views[1], now.goes, "now")  # visitors are sent on to where it is then
    if was.certainty != "certain":
        return False
    opens = was.kind in ("password", "denied") and now.kind in _SHOWING
    return opens or (was.status == 200 and _page(was) != _page(now))


def _page(found: Answer) -> tuple[str, int | None, str]:
    """What is shown, by the place that it has below the folder to which the address leads."""
    file, reach = found.shown.file or found.shown.place, found.reach.folder if found.reach is not None else None
    is_below = reach is not None and file.is_inside(reach)
    return found.kind, found.status, file.relative_to(reach) if is_below and reach is not None else ""
