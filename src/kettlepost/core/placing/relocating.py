"""Ways by which an installation comes to another address, held side by side, and what is written for the one taken."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

from msgspec.structs import replace

from kettlepost.core.errors import InputError
from kettlepost.core.layout import AccountLayout, Mount
from kettlepost.core.messages import Hint, Words, say
from kettlepost.core.names import Address, Folder
from kettlepost.core.placing.proposals import Proposal
from kettlepost.core.placing.replacing import ways_of_rehearsal
from kettlepost.core.placing.ways import MoveBy, MoveWay, MoveWays, Promise
from kettlepost.core.plan import Change, Domain, Installation, Moved
from kettlepost.core.remedies import Action, Remedy
from kettlepost.core.rules.going_live import going_live, rehearsed_by
from kettlepost.core.rules.moves import can_move, rehearsals, root_changes
from kettlepost.core.rules.paths import canonical
from kettlepost.core.rules.relocation import stays_in
from kettlepost.core.rules.ways_out import dropping, setting


def move_ways(
    layout: AccountLayout, installation: Installation, new: Address, promise: Promise, keeps: Sequence[str] = ()
) -> MoveWays:
    """The ways to another address of the same account; `keeps` is the data that what is rehearsed keeps, where a
    rehearsal is to take its place.

    Raises InputError for what is not live, is on its way already, or is to go where the account has no address.
    """
    old = installation.address
    if installation.state != "live":
        raise InputError(f"{installation.application} at {old} is {installation.state}; what moves is live")
    if installation.is_moving:
        now = installation.address_now or old
        raise InputError(f"{installation.application} is on its way from {now} to {old} already; confirm or undo that")
    if new == old:
        raise InputError(f"{installation.application} answers at {old} already")
    under_way = going_live(layout, installation)
    if under_way is not None:
        copy, live = under_way.rehearsal.address, under_way.live.address
        raise InputError(f"{copy} is to take the place of {live}; confirm or undo that first")
    mount = layout.hosts.mount(new)
    if mount is None or mount.folder is None:
        raise InputError(
            f"{new} leads to no folder of {layout.name}; declare {new.host} there first: what goes to another account "
            "is placed there anew"
        )
    lies = layout.lies_now(installation)
    others = [one for one in layout.account.installations if one.number != installation.number]
    spot = canonical(layout, new)
    holder = next((one for one in others if one.state != "retired" and canonical(layout, one.address) == spot), None)
    if holder is not None and holder == rehearsed_by(layout, installation):
        return ways_of_rehearsal(layout, installation, holder, keeps)
    if holder is not None:
        taken = say("move/taken", address=new, application=holder.application, state=holder.state)
        return MoveWays(
            layout.name, installation.application, old, new, lies, tuple(MoveWay(by, taken) for by in MoveBy)
        )
    ways = (
        _by_files(layout, installation, new, lies),
        _by_front_file(layout, installation, new, lies),
        _by_root(layout, installation, new, lies, mount),
        MoveWay(MoveBy.DONE, touched=(say("move/done-touched"),), changes=_entered(layout, installation, new, {})),
    )
    promised = tuple(promises(layout, old, new, promise))
    with_promises = tuple(
        replace(_described(layout, way, lies, new), changes=(*way.changes, *promised)) if not way.why_not else way
        for way in ways
    )
    return MoveWays(layout.name, installation.application, old, new, lies, with_promises)


def move(found: MoveWays, way: MoveWay) -> Proposal:
    """What is written for a way that is one here."""
    if found.replaces is not None:
        return Proposal(found.account, way.changes, tuple(_told_of(found, found.replaces)))
    told = [Hint(say("move/moves", application=found.application, old=found.old, new=found.new, by=way.by))]
    if way.stays:
        told.append(Hint(say("move/stays", stays=[one.shown for one in way.stays])))
    if way.by is not MoveBy.DONE:
        told.append(Hint(say("move/then"), (Remedy.of(Action.LIST_WORK, str(found.new).rstrip("/")),)))
    return Proposal(found.account, way.changes, tuple(told))


def _told_of(found: MoveWays, live: Installation) -> Iterator[Hint]:
    """What is told of a rehearsal that is to take the place of what is live."""
    yield Hint(say("move/replaces", old=found.old, new=found.new))
    lists = (Remedy.of(Action.LIST_WORK, str(live.address).rstrip("/")),)
    yield Hint(say("move/then"), lists)


def keep_address(layout: AccountLayout, old: Address, new: Address, promise: Promise, below: bool) -> Proposal:
    """That an old address is kept good, whatever was there; promises that led to it lead on."""
    if layout.hosts.mount(old) is None and layout.account.declared(old.host) is None:
        raise InputError(f"{old.host} is no domain of {layout.name}")
    changes = tuple(promises(layout, old, new, promise, below))
    return Proposal(layout.name, changes, (Hint(say("move/keeps", old=old, new=new)),))


def promises(
    layout: AccountLayout, old: Address, new: Address, promise: Promise, below: bool = True
) -> Iterator[Change]:
    """What is written of old addresses: the new promise; those to the old address lead to the new one at once, and
    those of the new address, or that a new one takes the place of, are taken out."""
    for one in layout.account.moved:
        if one.old in (new, old):
            yield dropping(layout, one)
        elif (onward := _onward(one, old, new)) is not None:
            yield dropping(layout, one) if onward == one.old else setting(layout, one, to=_plain(onward))
    values: dict[str, Any] = {"from": _plain(old), "to": _plain(new), "below": None if below else False}
    values |= {"permanent": promise.is_permanent or None, "since": promise.since, "until": promise.until}
    yield Change(layout.name, "moved", None, {key: value for key, value in values.items() if value is not None})


def _described(layout: AccountLayout, way: MoveWay, lies: Folder | None, new: Address) -> MoveWay:
    """A way with where it can be looked at beforehand, for how long nobody sees it, and how one comes back."""
    looks: list[Words] = []
    tree, place = layout.tree("now"), layout.reach(new) if way.by is not MoveBy.ROOT else None
    for address in tree.addresses_of(place) if place is not None and way.by is not MoveBy.DONE else ():
        at = tree.hosts.mount(address)
        if at is not None and at.domain.kind == "temporary" and address != new and not looks:
            looks.append(say("move/look-at", address=address))
    mount, machines = layout.hosts.mount(new), layout.account.settings.ip_addresses
    if mount is not None and not layout.points_here(mount.domain) and way.by is not MoveBy.DONE:
        looks.append(say("move/hosts-file", line=f"{machines[0] if machines else 'IP'} {new.host}"))
    if way.by is MoveBy.FILES and way.lies == lies:  # nothing is copied
        return replace(way, down=say("move/address-down"), back=say("move/address-back"))
    return replace(way, looks=tuple(looks), down=say(_DOWN[way.by]), back=say(_BACK[way.by]))


_DOWN = {
    MoveBy.FILES: "move/files-down", MoveBy.FRONT_FILE: "move/front-file-down", MoveBy.ROOT: "move/root-down",
    MoveBy.DONE: "move/done-down",
}  # fmt: skip
_BACK = {
    MoveBy.FILES: "move/files-back", MoveBy.FRONT_FILE: "move/front-file-back", MoveBy.ROOT: "move/root-back",
    MoveBy.DONE: "move/done-back",
}  # fmt: skip


def _plain(address: Address) -> str:
    """An address as a plan has it."""
    return str(address).rstrip("/")


def _onward(moved: Moved, old: Address, new: Address) -> Address | None:
    """Where a promise is to lead whose new address moves on; None where it does not."""
    begin = f"{old.path}/" if old.path else ""
    if moved.to.host != old.host or not (moved.to.path == old.path or moved.to.path.startswith(begin)):
        return None
    if not old.path and moved.to.path:
        return None  # what moves away from a root takes only its own along
    return new.below(moved.to.path[len(begin) :]) if moved.to.path != old.path else new


def _entered(
    layout: AccountLayout, installation: Installation, new: Address, values: dict[str, Any]
) -> tuple[Change, ...]:
    """The installation at its new address, and rehearsals of it."""
    own = setting(layout, installation, address=_plain(new), **values)
    return own, *rehearsals(layout, installation, new)


def _today(layout: AccountLayout, installation: Installation, lies: Folder) -> dict[str, Any]:
    """The keys that say where an installation answers and lies until it has moved."""
    old = installation.address
    is_led_to = layout.tree("now").reach(old) == lies
    return {"address_now": _plain(old), "folder_now": None if is_led_to else str(lies)}


def _by_files(layout: AccountLayout, installation: Installation, new: Address, lies: Folder | None) -> MoveWay:
    there = layout.reach(new)
    if lies is None or there is None:
        return MoveWay(MoveBy.FILES, say("move/nowhere"))
    values = {"folder": None, **_today(layout, installation, lies)}
    if there == lies:
        changes = _entered(layout, installation, new, values)
        return MoveWay(MoveBy.FILES, lies=there, touched=(say("move/address-alone"),), changes=changes)
    if not can_move(layout, installation):
        return MoveWay(MoveBy.FILES, say("move/others-files", folder=lies.shown))
    touched = (
        say("move/files-touched", old=lies.shown, new=there.shown),
        say("move/settings-touched"),
    )
    breaks = [say("move/hard-wired")]
    if lies in layout.mounts or lies in layout.tree("now").mounts:
        breaks.append(say("move/comes-along", folder=lies.shown))
    if layout.contents is not None and not layout.contents.is_empty(there):
        breaks.append(say("move/in-the-way", folder=there.shown))
    stays = stays_in(layout, installation, lies, there)
    return MoveWay(
        MoveBy.FILES, "", there, touched, tuple(breaks), tuple(one for one in stays if one != there),
        _entered(layout, installation, new, values),
    )  # fmt: skip


def _by_front_file(layout: AccountLayout, installation: Installation, new: Address, lies: Folder | None) -> MoveWay:
    known, there = layout.application(installation), layout.reach(new)
    if lies is None or there is None:
        return MoveWay(MoveBy.FRONT_FILE, say("move/nowhere"))
    if not known.front_file:
        return MoveWay(MoveBy.FRONT_FILE, say("move/no-front-file", application=known.shown))
    if there == lies:
        return MoveWay(MoveBy.FRONT_FILE, say("move/lies-there", folder=lies.shown))
    values = {"folder": str(lies), **_today(layout, installation, lies)}
    file = there.below(known.front_file).shown
    return MoveWay(
        MoveBy.FRONT_FILE, "", lies, (say("move/front-touched", file=file, lies=lies.shown),),
        (say("move/relative-paths"), say("move/admin-stays", old=installation.address)), (),
        _entered(layout, installation, new, values),
    )  # fmt: skip


def _by_root(
    layout: AccountLayout, installation: Installation, new: Address, lies: Folder | None, mount: Mount
) -> MoveWay:
    domain, old_root = mount.domain, mount.folder
    why_not = _no_root(layout, installation, new, lies, domain)
    if why_not or lies is None or old_root is None:
        return MoveWay(MoveBy.ROOT, why_not or say("move/nowhere"))
    values = {"folder": None, "address_now": _plain(installation.address), "folder_now": str(lies)}
    changes = (*root_changes(layout, domain, lies), *_entered(layout, installation, new, values))
    breaks = [say("move/root-leaves", root=old_root.shown, host=domain.name)]
    touched = (say("move/root-touched", host=domain.name, old=old_root.shown, new=lies.shown),)
    return MoveWay(MoveBy.ROOT, "", lies, touched, tuple(breaks), (), changes)


def _no_root(
    layout: AccountLayout, installation: Installation, new: Address, lies: Folder | None, domain: Domain
) -> Words:
    if new.path:
        return say("move/root-wants-host", new=new)
    if lies is None or not domain.claims_root or domain.state != "live" or domain.root_now is not None:
        return say("move/root-not-now", host=domain.name)
    if lies == layout.real(domain.root or lies):
        return say("move/lies-there", folder=lies.shown)
    inside = [one for one in layout.installations_of.get(domain.number, ()) if one.number != installation.number]
    return say("move/root-would-lose", others=[one.address for one in inside]) if inside else ""
