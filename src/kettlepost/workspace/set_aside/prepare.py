"""Clearing a folder of an account: looked at now, shown with what it takes and what stays, and set aside."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from contextlib import suppress
from pathlib import Path
from typing import NamedTuple

from msgspec.structs import replace

from kettlepost.core.clearing import (
    ClearedFolder,
    FileEntry,
    InUse,
    KeepReason,
    KeptEntry,
    Manifest,
    ManifestHead,
    ManifestItem,
    Measure,
    Selection,
    SetAsideNumber,
    Tree,
    around,
    listed_tree,
    live_in,
    place_of,
    select,
    set_aside_folder,
    tree_of,
)
from kettlepost.core.errors import InputError, KettlepostError, OutsideError
from kettlepost.core.layout import AccountLayout
from kettlepost.core.names import HOME, Folder, printable
from kettlepost.core.plan import Change, changed_account
from kettlepost.core.remedies import Action, Remedy
from kettlepost.core.rules.allowances import AllowanceUse, use_of
from kettlepost.core.rules.going_live import going_live, has_gone_live
from kettlepost.core.rules.moves import kept_apart
from kettlepost.core.rules.relocation import settling, stays_in
from kettlepost.core.rules.ways_out import setting
from kettlepost.core.survey import SET_ASIDE, Wanted, is_in
from kettlepost.core.words import listed
from kettlepost.core.work import change_of_root, has_changed_root
from kettlepost.sources import FileAccess, Secrets, Trouble, open_files
from kettlepost.sources.file_access import made_above
from kettlepost.workspace.carrying.records import see_nothing_is_half_carried
from kettlepost.workspace.clock import now
from kettlepost.workspace.plan_edits import address_of, folder_of
from kettlepost.workspace.plan_folder import PlanFolder
from kettlepost.workspace.set_aside import move as setting_aside
from kettlepost.workspace.set_aside.listing import (
    afterwards,
    at_work,
    digest_of,
    look_again,
    moved_words,
    see_nothing_is_half_way,
)
from kettlepost.workspace.set_aside.move import MoveOutcome, Progress
from kettlepost.workspace.set_aside.records import copies, keep_copy, keep_or_drop
from kettlepost.workspace.set_aside.store import SetAsideStore, walk
from kettlepost.workspace.surveys import source_of, survey
from kettlepost.workspace.work import context_of


class Target(NamedTuple):
    """What is to be cleared: the folder of an account, and by which address it was asked for, as it was written."""

    account: str
    folder: Folder
    address: str = ""


class PreparedClearing:
    """A clearing that is worked out, and not carried out yet.

    `selection` is what it takes and what stays; `refused` says in words why nothing at all is taken, where that is so.
    `by_handles` and `unkept` are as of FileAccess; `looked` is whether the host was looked at now.
    """

    def __init__(
        self,
        plan: PlanFolder,
        target: Target,
        measure: Measure,
        layout: AccountLayout,
        place: ClearedFolder,
        tree: Tree,
        access: FileAccess | None = None,
        source: str | None = None,
        secrets: Secrets | None = None,
    ):
        self.plan, self.target, self.measure, self.layout, self.place, self.tree = (
            plan, target, measure, layout, place, tree
        )  # fmt: skip
        self.access, self._source, self._secrets = access, source, secrets
        self.refused = list(_refusals(layout, place))
        whole = select(layout, place, tree, measure)
        self.selection = whole if not self.refused else Selection((), whole.stays)
        self.number = number_of(now())
        survey = layout.survey
        self.source = survey.source if survey is not None else ""

    @property
    def wanted(self) -> str:
        """What the folder is cleared for, in words."""
        planned = self.place.planned
        return f"{planned.application} at {planned.address}" if planned is not None else ""

    @property
    def surveyed(self) -> str:
        """When the account was surveyed, in ISO 8601 form."""
        return self.layout.survey.taken if self.layout.survey is not None else ""

    @property
    def by_handles(self) -> bool:
        return self.access is None or self.access.by_handles

    @property
    def unkept(self) -> str:
        return self.access.unkept if self.access is not None else ""

    def manifest(self, moment: str = "", digests: Mapping[str, str] | None = None) -> Manifest:
        """The manifest of what is to be set aside."""
        digests = digests or {}
        items: list[ManifestItem] = []
        entries = {entry.path: entry for entry in self.tree.below(self.tree.top)}
        for taken in self.selection.takes:
            own = entries.get(taken.path)
            if own is None and self.access is not None:
                own = self.access.look(taken.path)
            if own is None:
                continue
            items.append(ManifestItem.of(own, taken.why.name.lower(), taken.what, digests.get(own.path, "")))
            if taken.kind == "folder":
                items += [
                    ManifestItem.of(entry, "", "", digests.get(entry.path, "")) for entry in self.tree.below(taken.path)
                ]
        head = ManifestHead(
            1, self.number, self.target.account, str(self.place.folder), self.measure.value, moment or now(),
            self.source, self.wanted, self.target.address, self._modes([item.path for item in items], entries),
            {place: used.what for place, used in self._in_use().items()},
        )  # fmt: skip
        return Manifest(head, items)

    def _in_use(self) -> dict[str, InUse]:
        return live_in(self.layout, self.place.folder, [taken.path for taken in self.selection.takes])

    def _modes(self, paths: Sequence[str], entries: Mapping[str, object]) -> dict[str, int]:
        """The permission bits of the folders around what is taken."""
        taken = {taken.path for taken in self.selection.takes if taken.kind == "folder"}
        found: dict[str, int] = {}
        for above in dict.fromkeys(above for path in paths for above in made_above(path)):
            if any(is_in(above, one) for one in taken):
                continue
            entry = entries.get(above) or (self.access.look(above) if self.access is not None else None)
            mode = getattr(entry, "mode", -1)
            if mode >= 0:
                found[above] = mode
        return found

    def commit(
        self,
        with_digests: bool = False,
        copy_to: Path | None = None,
        progress: Progress | None = None,
        moment: str | None = None,
        takes_over: bool = False,
    ) -> Cleared:
        """Set aside what was shown, and look at the folder again.

        `copy_to` is a file for a packed copy of it, which is read again before anything is moved. Raises InputError
        when somebody else is at it or something broke off there before, OutsideError when it cannot be done.
        """
        if self.access is None:
            raise InputError("the files are not at hand; --list writes what to do there")
        if not self.selection.takes:
            return Cleared(self.number, MoveOutcome(None, [], []), self.layout, ())
        at = moment or now()
        with at_work(self.plan, self.target.account):
            store = SetAsideStore(self.access, takes_over)
            see_nothing_is_half_way(store, self.target.account)
            taken = set(store.ids()) | set(copies(self.plan))
            self.number = free_number(number_of(at), taken)
            digests: dict[str, str] = {}
            if copy_to is not None:
                from kettlepost.workspace.set_aside.packing import pack

                digests = pack(self.access, self.manifest(at), copy_to)
            elif with_digests:
                digests = {path: _must_digest(self.access, path) for path in _files(self.manifest(at))}
            manifest = self.manifest(at, digests)
            keep_copy(self.plan, manifest)
            try:
                outcome = setting_aside.set_aside(store, manifest, progress)
            except KettlepostError:
                with suppress(KettlepostError):
                    if manifest.id not in store.ids():
                        keep_or_drop(self.plan, manifest.id, None)
                raise
            with afterwards(moved_words(outcome, "set aside")):
                keep_or_drop(self.plan, manifest.id, outcome.manifest)
        folders = [self.place.folder, Folder(SET_ASIDE)]
        with afterwards(moved_words(outcome, "set aside")):
            layout = look_again(self.plan, self.target.account, folders, self._source, self._secrets)
        return Cleared(self.number, outcome, layout, tuple(_still_counting(layout)))

    def close(self) -> None:
        if self.access is not None:
            self.access.close()


class Cleared(NamedTuple):
    """What was set aside, under which number, the account as it is now, and the allowances it still counts for."""

    number: str
    outcome: MoveOutcome
    layout: AccountLayout
    still_count: tuple[AllowanceUse, ...]


def clearing(
    plan: PlanFolder,
    address: str | None = None,
    account: str | None = None,
    folder: str | None = None,
    measure: Measure | str = Measure.BLOCKING,
    source: str | None = None,
    secrets: Secrets | None = None,
    look: bool = True,
) -> PreparedClearing:
    """Work out what a clearing of a folder takes and what stays: the one an address leads to, or `folder` of `account`.

    With `look` the folder is looked at first, through the account's source, and its survey kept; else what
    was surveyed before is gone by. Raises InputError, OutsideError.
    """
    target = target_of(plan, address, account, folder)
    secrets = secrets or Secrets(lambda _: None)
    if not look:
        layout = _as_led_to(plan, target, measure)
        if layout.survey is None:
            raise InputError(f"{target.account} was not surveyed yet", layout.surveying)
        place = replace(
            _place(layout, target), beside=_left_beside(plan, target), gives_way=_gives_way(plan, target, measure)
        )
        tree = _listed_tree(plan, target, source, secrets) or tree_of(layout.survey, layout.file_names, target.folder)
        return PreparedClearing(plan, target, Measure(measure), layout, place, tree)
    where = source_of(plan, target.account, source, secrets=secrets)
    access = open_files(where, secrets, now())
    if access is None:
        raise InputError(
            f"{printable(where.name)} holds no files that can be moved",
            Remedy(Action.NAME_HOME),
            Remedy(Action.CLEAR_BY_HAND),
        )
    try:
        there = _looked(access, target.folder)
        if there is None or there.kind != "folder":
            what = "is not there" if there is None else f"is a {there.kind}"
            raise InputError(f"{target.folder.shown} of {target.account} {what} in {printable(access.name)}")
        see_nothing_is_half_way(SetAsideStore(access), target.account)
        see_nothing_is_half_carried(plan, target.account)
        _see_same_device(access, target.folder)
        tree = walk(access, target.folder)
        survey(plan, target.account, source, secrets=secrets, only=target.folder)
        plan = PlanFolder(plan.path)
        layout = _as_led_to(plan, target, measure)
        place = replace(
            _place(layout, target), beside=_left_beside(plan, target), gives_way=_gives_way(plan, target, measure)
        )
        prepared = PreparedClearing(plan, target, Measure(measure), layout, place, tree, access, source, secrets)
    except BaseException:
        access.close()
        raise
    return prepared


def target_of(plan: PlanFolder, address: str | None, account: str | None, folder: str | None) -> Target:
    """Which folder of which account is meant. Raises InputError."""
    if (address is None) == (folder is None):
        raise InputError("name an ADDRESS, or a folder with --account ACCOUNT --folder FOLDER")
    if folder is not None:
        if account is None and len(plan.names) != 1:
            raise InputError("name the account that the folder lies in", Remedy(Action.CHOOSE_ACCOUNT))
        name = plan.known_names([account])[0] if account is not None else plan.names[0]
        real = plan.layout_of(name).real(folder_of(folder, plan))
        return Target(name, _cleared_folder(real))
    asked = address_of(address or "")
    whole = plan.layout_for([account] if account is not None else None)
    reached = whole.reach(asked)
    if reached is None or reached.folder is None:
        reached = whole.reach(asked, "now")
    if reached is None:
        raise InputError(f"{asked} is at no domain of the plan", Remedy(Action.LIST_DOMAINS))
    if reached.folder is None:
        raise InputError(f"{asked} is sent on, and leads to no folder")
    name = reached.mount.account.name
    layout = whole.accounts[name]
    return Target(name, _cleared_folder(layout.real(reached.folder)), str(asked))


def _as_led_to(plan: PlanFolder, target: Target, measure: Measure | str) -> AccountLayout:
    """An account as its names lead into it: those of which the host has changed the root have left their old one.

    Raises InputError where all of a root is to go that a name is still led to.
    """
    context = context_of(plan, target.account)
    layout = context.layout
    moving = [domain for domain in layout.account.domains if domain.root_now is not None and domain.claims_root]
    if not moving and not layout.moving and not layout.to_go_live:
        return layout
    gone = [domain for domain in moving if has_changed_root(context, domain)]
    for domain in moving if Measure(measure) is Measure.EVERYTHING else ():
        if domain not in gone and layout.real(domain.root_now or HOME) == target.folder:
            root = domain.root.shown if domain.root is not None else ""
            raise InputError(
                f"{domain.name} answers from {target.folder.shown} until the host leads it to {root}",
                Remedy.of(Action.SAY_DONE, change_of_root(context, domain)),
            )
    copied = [one for one in layout.moving if layout.holds_copy(one)]
    for installation in layout.moving if Measure(measure) is Measure.EVERYTHING else ():
        new = layout.folder_of(installation)
        if installation not in copied and layout.comes_from(installation) == target.folder != new:
            raise InputError(
                f"{installation.application} answers from {target.folder.shown} until it was seen in "
                f"{new.shown if new is not None else 'its new folder'}; look again once it was copied",
                layout.surveying,
            )
    changes = [setting(layout, domain, root_now=None) for domain in gone]
    changes += _given_way(layout, target, measure)
    changed = changed_account(layout.account, [*changes, *(settling(layout, one) for one in copied)])
    return layout if changed is None else layout.changed(changed[0])


def _given_way(layout: AccountLayout, target: Target, measure: Measure | str) -> list[Change]:
    """What is live and gives way to its rehearsal is done with, once all of it is to go.

    Raises InputError where it is not seen whether that has come already, and while its rehearsal is not there.
    """
    changes: list[Change] = []
    for one in layout.to_go_live if Measure(measure) is Measure.EVERYTHING else ():
        going = going_live(layout, one)
        if going is None or going.to != target.folder or has_gone_live(layout, going) is True:
            continue
        there = layout.contents.applications.get(going.folder) if layout.contents is not None else None
        if has_gone_live(layout, going) is None or there is None or there.application != one.application:
            raise InputError(
                f"it is not seen that {going.folder.shown} holds what is to come to {target.folder.shown}",
                layout.surveying,
            )
        changes.append(setting(layout, going.live, state="retired"))
    return changes


def _gives_way(plan: PlanFolder, target: Target, measure: Measure | str) -> bool:
    """Whether what is live in a folder is replaced by its rehearsal, once all of it is to go."""
    layout = plan.layout_of(target.account)
    found = (going_live(layout, one) for one in layout.to_go_live)
    is_everything = Measure(measure) is Measure.EVERYTHING
    return is_everything and any(one is not None and one.to == target.folder for one in found)


def _left_beside(plan: PlanFolder, target: Target) -> tuple[KeptEntry, ...]:
    """What stays in a folder from which something moves away: the very things that are not copied with it."""
    layout, found, kept = plan.layout_of(target.account), set[Folder](), set[Folder]()
    for installation in layout.moving:
        old, new = layout.comes_from(installation), layout.folder_of(installation)
        if old == target.folder and new is not None and new != old:
            found.update(stays_in(layout, installation, old, new))
    for one in layout.to_go_live:
        going = going_live(layout, one)
        if going is not None and going.to == target.folder:
            found.update(going.stays)
            kept.update(going.kept)
    for domain in layout.account.domains:
        if domain.root_now is not None and domain.root is not None and layout.real(domain.root_now) == target.folder:
            found.update(kept_apart(layout, domain, target.folder, layout.real(domain.root)))
    sites = layout.contents.site if layout.contents is not None else lambda _: None
    reasons = {place: KeepReason.SITE if sites(place) is not None else KeepReason.APPLICATION for place in found}
    reasons |= dict.fromkeys(kept, KeepReason.LIVE)
    return tuple(KeptEntry(str(place), why) for place, why in sorted(reasons.items()))


def number_of(moment: str) -> SetAsideNumber:
    """`20261126-143005`, by the moment in UTC."""
    digits = "".join(letter for letter in moment if letter.isdigit())
    return SetAsideNumber(f"{digits[:8]}-{digits[8:14]}")


def _looked(access: FileAccess, folder: Folder) -> FileEntry | None:
    """What is at a folder's place; a link on the way there leads nowhere."""
    try:
        return access.look(folder)
    except Trouble as trouble:
        raise InputError(f"{folder.shown} cannot be reached in {printable(access.name)} ({trouble})") from None


def _listed_tree(plan: PlanFolder, target: Target, source: str | None, secrets: Secrets) -> Tree | None:
    """What lies in a folder by the names and sizes that a source has; None where none is named or it cannot be read."""
    if source is None and not plan.account(target.account).settings.survey_from:
        return None
    try:
        where = source_of(plan, target.account, source, secrets=secrets)
        return listed_tree(where.listings(Wanted(frozenset(), lambda *_: None), target.folder), target.folder)
    except KettlepostError:
        if source is not None:
            raise
        return None


def _place(layout: AccountLayout, target: Target) -> ClearedFolder:
    return place_of(layout, target.folder, address_of(target.address) if target.address else None)


def _cleared_folder(folder: Folder) -> Folder:
    """Raises InputError for what is never cleared."""
    if folder == HOME:
        raise InputError(
            "that is the account's home itself, where all of it lies: name the folder in it that is to be cleared"
        )
    if is_in(folder, SET_ASIDE):
        raise InputError("that is where things are set aside", Remedy.of(Action.DISCARD, "NUMBER"))
    return folder


def _refusals(layout: AccountLayout, place: ClearedFolder) -> Iterator[str]:
    """Why nothing at all is taken."""
    if place.others:
        yield (
            f"{place.folder.shown} is also the folder of {listed(place.others, 4)}: give one of them a folder of its "
            "own first, as nothing tells whose is what"
        )
    inside = around(layout, place.folder)
    if inside is not None:
        yield f"{place.folder.shown} is a part of {inside[1]}, which lies in {inside[0].shown}"
    who = set_aside_folder(layout)
    if who:
        yield (
            f"{who} leads to the account's home, so what is set aside there could be reached by everybody: give it a "
            "folder of its own first"
        )


def _see_same_device(access: FileAccess, folder: Folder) -> None:
    """Raises InputError where a folder is on another file system than the home, so that nothing can be renamed."""
    if not access.by_handles:
        return
    devices = {
        entry.identity.partition(":")[0]
        for path in (*made_above(f"{folder}/"), folder.split("/")[0])
        if (entry := access.look(path)) is not None
    }
    home = next((one.entries for one in access.list_all([""])), ())
    usual = {entry.identity.partition(":")[0] for entry in home if entry.path != folder.split("/")[0]}
    if len(devices) > 1 or (usual and not devices & usual):
        raise InputError(
            f"{folder.shown} is on another file system than the home: what is in it cannot be renamed there"
        )


def _files(manifest: Manifest) -> Iterator[str]:
    return (item.path for item in manifest.items if item.kind == "file")


def _must_digest(access: FileAccess, path: str) -> str:
    try:
        return digest_of(access, path)
    except Trouble as trouble:
        raise OutsideError(f"{printable(path)}: cannot be read ({trouble}); nothing was moved") from None


def _still_counting(layout: AccountLayout) -> Iterator[AllowanceUse]:
    for key in ("disk_mb", "files"):
        use = use_of(layout, key)
        if use is not None:
            yield use


def free_number(number: SetAsideNumber, taken: set[SetAsideNumber]) -> SetAsideNumber:
    """The same number, or one with another ending where that is taken."""
    free, n = number, 1
    while free in taken:
        n += 1
        free = SetAsideNumber(f"{number}-{n}")
    return free
