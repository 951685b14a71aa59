"""Ways out that move: a domain to another root, an installation to another address, with their files."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable, Iterator, Sequence
from contextlib import suppress
from itertools import chain

from kettlepost.core.answering import control_text
from kettlepost.core.errors import InputError
from kettlepost.core.layout import AccountLayout, HoldKind, holds_in, root_holds, stands_for
from kettlepost.core.messages import Words, joined, say, series
from kettlepost.core.names import Address, Folder, HostName
from kettlepost.core.plan import Change, Domain, Installation
from kettlepost.core.quoting.apache import Apache, in_quotes
from kettlepost.core.rules.allowances import use_of
from kettlepost.core.rules.findings import WayOut
from kettlepost.core.rules.ways_out import (
    MANY,
    clearing_folder,
    free_address,
    free_root,
    host_domain,
    numbered,
    setting,
)
from kettlepost.core.steps import (
    AddHost,
    AddLines,
    CarryLines,
    ChangeRoot,
    Configure,
    Confirm,
    CopyFolder,
    LookAgain,
    LookAtFile,
    LookAtFolder,
    MakeFolder,
    Moving,
    OpenPage,
    ReadIn,
    SetAsideFolder,
    Step,
    saying_root_changed,
)
from kettlepost.core.survey import CHOOSING_PHP, KEEPING_OUT, FoundControl
from kettlepost.core.webserver import carried_lines, denies_by_path
from kettlepost.core.webserver.directives import logical_lines

_OTHERS = (HoldKind.ROOT, HoldKind.ROOT_NOW, HoldKind.ALIAS)


def moved_roots(layout: AccountLayout, domains: Sequence[Domain]) -> WayOut:
    """Give each of `domains` a free folder of its own, and move there what is its own."""
    taken: dict[Folder, Domain] = {}
    for domain in domains:
        taken[free_root(layout, domain.name, taken)] = domain
    changes = [change for folder, domain in taken.items() for change in root_changes(layout, domain, folder)]
    steps = [step for folder, domain in taken.items() for step in root_steps(layout, domain, folder)]
    steps += reading_in(layout, domains)
    free = "free" if layout.contents is not None else say("moved-roots/free-plan-survey")
    folders = list(taken)
    if len(domains) == 1:
        words = say("moved-roots/give-folder", domain=domains[0].name, folder=folders[0].shown, free=free)
    elif len(domains) <= MANY:
        each = series(
            say("moved-roots/folder", domain=domain.name, folder=folder.shown) for folder, domain in taken.items()
        )
        words = say("moved-roots/give", each=each, free=free)
    else:
        words = say("moved-roots/give-each-folder", domains=len(domains), free=free, folder=folders[0].shown)
    makes, copies = (any(isinstance(step, kind) for step in steps) for kind in (MakeFolder, CopyFolder))
    expects = ("empty-root",) if makes and not copies else ()
    return WayOut(joined(words, moving_words(steps)), tuple(changes), steps=steps, expects=expects)


def root_changes(layout: AccountLayout, domain: Domain, root: Folder) -> Iterator[Change]:
    """What is written where a domain is to lead to `root`: a live one leads to its old root until it has moved."""
    if domain.state != "live":
        yield setting(layout, domain, root=str(root))
        return
    today = domain.root_now or domain.root
    yield setting(layout, domain, root=str(root), root_now=str(today) if today not in (None, root) else None)
    for installation in layout.installations_of.get(domain.number, ()):
        lies = installation.folder
        if lies is None:
            continue
        if today is not None and lies.is_inside(today):
            yield setting(layout, installation, folder=str(root.below(lies.relative_to(today))))


def reading_in(layout: AccountLayout, domains: Iterable[Domain]) -> list[Moving]:
    """Reading in the server again that said where live domains lead: what is kept of it is of before they move."""
    seen = layout.outside.hosts if layout.outside is not None else ()
    names = {domain.name for domain in domains if domain.state == "live"} if seen else ()
    sources = dict.fromkeys(one.source.rpartition(":")[0] or one.source for one in seen if one.host in names)
    return [ReadIn(layout.name, source) for source in sources]


def moving_steps(layout: AccountLayout, domain: Domain, root: Folder) -> list[Moving]:
    """The whole work of moving a live domain, from the copy to the plan that says so; none for one that is to come."""
    steps = root_steps(layout, domain, root)
    looks = [LookAgain(layout.name), *reading_in(layout, [domain])]
    return [*steps, *looks, Confirm(layout.name, domain.name)] if steps else []


def root_steps(layout: AccountLayout, domain: Domain, root: Folder) -> list[Moving]:
    """The work of moving a live domain: files are copied, the root is changed, the page is opened, the old ones are set
    aside.

    Where a root goes up or down in its own folder, and something lies there, that alone is changed. What lies in the
    way of a copy is to be looked at first.
    """
    today = domain.root_now or domain.root
    if domain.state != "live" or today is None:
        return []
    old, contents = layout.real(today), layout.contents
    is_filled = contents is not None and not contents.is_empty(root)
    if is_filled and (root.is_inside(old) or old.is_inside(root)):
        return [ChangeRoot(layout.name, domain.name, old, root)]
    moved = list(_own_folders(layout, domain, old))
    steps: list[Moving] = []
    if old not in moved and not (contents is not None and contents.exists(root)):
        steps.append(MakeFolder(layout.name, root))
    for folder in moved:
        to = root.below(folder.relative_to(old))
        if contents is not None and not contents.is_empty(to):
            steps.append(LookAtFolder(layout.name, to))
        steps.append(CopyFolder(layout.name, folder, to, kept_apart(layout, domain, folder, root)))
    for folder in moved:
        steps += carried(layout, folder, root.below(folder.relative_to(old)))
    said = saying_root_changed(layout.name, domain.name, old, root) if moved else None
    steps.append(ChangeRoot(layout.name, domain.name, old, root, said))
    if moved:
        steps.append(OpenPage(layout.name, str(Address(domain.name))))
        for folder in moved:
            address = Address(domain.name).below(folder.relative_to(old)) if folder != old else Address(domain.name)
            apart = kept_apart(layout, domain, folder, root)
            steps += _sent_on(layout, folder, address, {domain.number}, root, apart)
    for folder in moved:
        stays = {*kept_apart(layout, domain, folder, root), *linked_in(layout, folder)}
        steps.append(setting_aside(layout, folder, stays))
    return steps


def carried(layout: AccountLayout, old: Folder, new: Folder) -> Iterator[CarryLines | LookAtFile]:
    """What the control files around a folder say that it still needs in its new place: who may see what, and of PHP.

    The lowest of them is written first, so that the highest stands at the beginning, as a server reads them.
    """
    if layout.contents is None or not layout.obeys_control_files:
        return
    around = {*new.above(), new}
    for above in old.above():
        control = layout.contents.htaccess(above)
        if above in around or control is None:
            continue
        lines = [number for number, _ in carried_lines(control_text(control.lines))]
        if lines:
            yield CarryLines(layout.name, above, ".htaccess", new, min(lines), max(lines))
        if protects_beside(control, lines) or (not lines and ".htaccess" in layout.contents.needed_controls(above)):
            held = say("carried/says-may-see", old=old.shown)
            says = say("carried/wanted-well", held=held, new=new.shown)
            yield LookAtFile(layout.name, above, ".htaccess", says)


def protects_beside(control: FoundControl, lines: Collection[int]) -> bool:
    """Whether a control file keeps visitors out, or chooses PHP, by other lines than some: by a rewrite, say."""
    needed = KEEPING_OUT | CHOOSING_PHP
    by_effect = (effect.line for effect in control.effects if effect.does in needed)
    by_path = (number for number, written in logical_lines(control_text(control.lines)) if denies_by_path(written))
    return any(number not in lines for number in (*by_effect, *by_path))


def setting_aside(layout: AccountLayout, folder: Folder, stays: Iterable[Folder]) -> SetAsideFolder:
    """What lies in a folder goes out of the way once a copy of it is in use, and can be put back."""
    return SetAsideFolder(layout.name, folder, tuple(sorted(stays)), clearing_folder(layout, folder, "everything"))


def kept_apart(layout: AccountLayout, domain: Domain, folder: Folder, root: Folder) -> tuple[Folder, ...]:
    """What stays where it is as a folder moves to `root`: what others use in it, and that root, if it lies there."""
    others = _others(layout, domain, folder)
    return tuple(sorted({*others, root})) if root.is_inside(folder) else others


def _sent_on(
    layout: AccountLayout, folder: Folder, to: Address, moving: set[int], lies: Folder, stays: Iterable[Folder]
) -> Iterator[AddLines]:
    """The lines that send visitors on from the addresses that a folder had below the sites around it.

    `moving` are the domains that move along, `lies` is where it lies then, `stays` what goes on answering where it is;
    nothing where the server obeys no control files, or where somebody's root is the folder itself.
    """
    outer = [place for place in folder.above() if _led_to(layout, place, moving)]
    if not outer or not layout.obeys_control_files or _led_to(layout, folder, moving):
        return
    mount = layout.hosts.mount(to)
    scheme = "https" if mount is not None and mount.domain.https else "http"
    now = layout.tree("now").mounts
    around = [(root, mount) for root in outer for mount in now[root] if mount.domain.number not in moving]
    paths = dict.fromkeys(Address(mount.address.host, mount.address.path).below(folder.relative_to(root)).path
                          for root, mount in around)  # fmt: skip
    lines = []
    for path in paths:
        with suppress(InputError):
            lines.append(_redirect(path, f"{scheme}://{to}".rstrip("/"), folder, stays))
    hosts = {mount.address.host for _, mount in around}
    if lines and any(place.is_inside(outer[0]) and place != folder for place in chain(now, (lies,))):
        lines = for_hosts(hosts, lines)  # whoever has a root in there obeys the file, and may have such a path, too
    if lines:
        yield AddLines(layout.name, outer[0], ".htaccess", tuple(lines))


def for_hosts(hosts: Iterable[HostName], lines: list[str]) -> list[str]:
    """Lines of a control file that hold for some hosts only; none where they are not known by name."""
    asked = " || ".join(f"%{{HTTP_HOST}} == '{host}'" for host in sorted(hosts) if "*" not in host)
    return [f'<If "{asked}">', *lines, "</If>"] if asked else []


def _redirect(path: str, goes: str, folder: Folder, stays: Iterable[Folder]) -> str:
    """The line that sends visitors of a path on, but for those of what stays in its folder."""
    inside = [re.escape(str(place.relative_to(folder))) for place in stays if place.is_inside(folder)]
    if not inside:
        return str(Apache.of("Redirect 301 «path» «goes»", path=in_quotes(f"/{path}"), goes=in_quotes(goes)))
    pattern = f"^/{re.escape(path)}(?!/(?:{'|'.join(inside)})(?:/|$))(/.*)?$"
    return str(Apache.of("RedirectMatch 301 «pattern» «goes»", pattern=in_quotes(pattern), goes=in_quotes(f"{goes}$1")))


def redirects(layout: AccountLayout, domain: Domain, old: Folder, root: Folder) -> Iterator[AddLines]:
    """The lines that send visitors of a domain's old addresses on, whether anything lies there still or not."""
    return _sent_on(layout, old, Address(domain.name), {domain.number}, root, kept_apart(layout, domain, old, root))


def _led_to(layout: AccountLayout, place: Folder, moving: set[int]) -> bool:
    """Whether a name that does not move leads to a folder today."""
    return any(mount.domain.number not in moving for mount in layout.tree("now").mounts.get(place, ()))


def moves_elsewhere(layout: AccountLayout, installation: Installation) -> list[WayOut]:
    """Moving an installation to a subfolder, or to a subdomain of its own; not one whose files others share."""
    ways: list[WayOut] = []
    if not can_move(layout, installation):
        return ways
    below = free_address(layout, installation)
    if below is not None:
        steps = _installation_steps(layout, installation, below[0], below[1])
        words = say(
            "moves-elsewhere/move-whose-folder", address=installation.address, below=below[0], folder=below[1].shown
        )
        changes = (
            setting(layout, installation, address=str(below[0]), folder=None),
            *rehearsals(layout, installation, below[0]),
        )
        words += moving_words(steps) + _rehearsed_words(layout, installation)
        ways.append(WayOut(words, changes, steps=steps))
    own = own_subdomain(layout, installation)
    return [*ways, own] if own is not None else ways


def rehearsals(layout: AccountLayout, installation: Installation, to: Address) -> Iterator[Change]:
    """What is written of those that rehearse an installation which moves: they do so at its new address."""
    for one in layout.rehearsed_by.get(installation.address, ()):
        yield setting(layout, one, staging_of=str(to))


def _rehearsed_words(layout: AccountLayout, installation: Installation) -> Words:
    told = [str(one.address) for one in layout.rehearsed_by.get(installation.address, ())]
    return say("rehearsed-words/write", told=told) if told else ""


def own_subdomain(layout: AccountLayout, installation: Installation) -> WayOut | None:
    """Moving an installation to a subdomain of its own, with a root outside all others."""
    domain, use = host_domain(layout, installation.address), use_of(layout, "subdomains")
    package = layout.plan.packages.get(layout.account.settings.package or "")
    is_full = (use is not None and use.total >= use.allowed) or (package is not None and not package.root_installations)
    if domain is None or is_full or not can_move(layout, installation):
        return None
    label = re.sub(r"[^a-z0-9-]", "", installation.application.replace("_", "-")).strip("-") or "site"
    host = next(
        host for name in numbered((label,)) if not layout.hosts.serving(host := HostName(f"{name}.{domain}"))
        or (host not in layout.hosts)
    )  # fmt: skip
    root = free_root(layout, host)
    values = {"name": str(host), "kind": "subdomain", "root": str(root)}
    if installation.state == "planned":
        values["state"] = "planned"
    added = AddHost(layout.name, host, "subdomain", root)
    to = Address(host)
    if installation.state == "planned" and layout.wants_new_folder(installation):
        to = to.below(label)  # as the host makes the root
    steps = _installation_steps(layout, installation, to, root)
    below = say("own-subdomain/below", to=to) if to.path else ""
    where = say("own-subdomain/move-subdomain-own", below=below, host=host)
    words = say("own-subdomain/root-free", where=where, root=root.shown)
    return WayOut(
        words + moving_words(steps) + _rehearsed_words(layout, installation),
        (
            Change(layout.name, "domain", None, values),
            setting(layout, installation, address=str(host) if not to.path else str(to), folder=None),
            *rehearsals(layout, installation, to),
        ),
        steps=[added, *steps] if steps else [],
    )


def _installation_steps(layout: AccountLayout, installation: Installation, to: Address, folder: Folder) -> list[Step]:
    """The work of moving an installation that is set up already; none for one that is still to come."""
    old = layout.folder_of(installation)
    if installation.state != "live" or old is None or installation.is_moving:
        return []
    holds = holds_in(layout, old, installation.application, installation.number)
    stays = tuple(sorted({hold.place for hold in holds if hold.place != old and hold.kind is not HoldKind.LINK}))
    left = {*stays, *linked_in(layout, old)}
    if old in layout.mounts or old in layout.tree("now").mounts:
        left.add(old)  # the folder itself stays for a domain
    return [
        CopyFolder(layout.name, old, folder, stays),
        *carried(layout, old, folder),
        Configure(layout.name, str(installation.address), folder, address=str(to)),
        OpenPage(layout.name, str(to)),
        *_sent_on(layout, old, to, set(), folder, stays),
        setting_aside(layout, old, left),
    ]


def can_move(layout: AccountLayout, installation: Installation) -> bool:
    """Whether the files of an installation can go: not with another, or a page, in the same folder.

    Nor where another name leads to the folder itself, which shows them today, and would show nothing.
    """
    old = layout.lies_now(installation)
    if installation.state != "live" or old is None or installation.is_moving:
        return True
    holds = list(holds_in(layout, old, installation.application, installation.number))
    mount = layout.tree("now").hosts.mount(installation.address)
    own = {str(installation.address), *([str(mount.domain.name)] if mount is not None else [])}
    if any(hold.place == old and hold.kind in _OTHERS and hold.who not in own for hold in holds):
        return False
    mixing = {(old, HoldKind.INSTALLATION), (old, HoldKind.PAGE)}
    return not any(
        (hold.place.parent if hold.kind is HoldKind.PAGE else hold.place, hold.kind) in mixing for hold in holds
    )


def moving_words(steps: Sequence[Step]) -> Words:
    """What a move of files adds to what is said of it, and that the server is read in again where one was."""
    reads = any(isinstance(step, ReadIn) for step in steps)
    return joined(_moving_words(steps), say("moving-words/read-in") if reads else None)


def _moving_words(steps: Sequence[Step]) -> Words:
    copied = [step for step in steps if isinstance(step, CopyFolder)]
    if any(isinstance(step, MakeFolder) for step in steps) and not copied:
        return say("moving-words/make-change-root")
    if not copied and steps:
        return say("moving-words/change-root-host")
    if not copied:
        return ""
    what = (
        say("moving-words/lies", folder=copied[0].folder.shown)
        if len(copied) == 1
        else say("moving-words/files", folder=copied[0].folder.shown)
    )
    stays = dict.fromkeys(folder.shown for step in copied for folder in step.stays)
    but = say("moving-words/but-others-use", stays=stays) if stays else ""
    host = (
        say("moving-words/root-host")
        if any(isinstance(step, ChangeRoot) for step in steps)
        else say("moving-words/settings")
    )
    gone = [step for step in steps if isinstance(step, SetAsideFolder)]
    linked = [place.shown for step in gone for place in step.stays if place != step.folder and place.shown not in stays]
    left = say("moving-words/but-links-others", linked=linked) if linked else ""
    sends = [step for step in steps if isinstance(step, AddLines)]
    sent = say("moving-words/send-visitors-old") if sends else ""
    files = dict.fromkeys(step.folder.below(step.file).shown for step in steps if isinstance(step, CarryLines))
    with_it = say("moving-words/says-may-see", files=files) if files else ""
    changed = [step.old for step in steps if isinstance(step, ChangeRoot)]
    moved = {step.folder for step in copied}
    parts = [old.shown for old in changed if old not in moved]
    rest = say("moving-words/else-lies-shows", parts=parts) if parts else ""
    then = say("moving-words/look-site-set", sent=sent, left=left, rest=rest)
    return say("moving-words/copy-change", what=what, but=but, with_it=with_it, host=host, then=then)


def _own_folders(layout: AccountLayout, domain: Domain, old: Folder) -> Iterator[Folder]:
    """The folders with what is a domain's own: its root, or where others have that too, those of its installations."""
    contents = layout.contents
    if _is_alone(layout, domain, old):
        if old and (contents is None or not contents.is_empty(old)):
            yield old
        return
    for folder in dict.fromkeys(layout.folder_of(one) for one in layout.installations_of.get(domain.number, ())):
        if (
            folder is not None
            and folder.is_inside(old)
            and folder not in layout.roots
            and all(
                installation.state == "live" and _is_at(layout, installation, domain)
                for installation in layout.standing[folder]
            )
        ):
            yield folder


def _is_alone(layout: AccountLayout, domain: Domain, old: Folder) -> bool:
    """Whether no other domain and no path alias leads to a folder, today or once the plan is carried out."""
    return all(
        mount.alias is None and _stands_for(layout, mount.domain) == domain.number
        for when in ("now", "planned")
        for mount in layout.tree(when).mounts.get(old, ())
    )


def _others(layout: AccountLayout, domain: Domain, folder: Folder) -> tuple[Folder, ...]:
    """The folders inside one that other domains use, and installations at their addresses; not what lies in them."""
    return tuple(sorted(layout.outermost_in(folder, lambda place: _is_of_others(layout, domain, place))))


def _is_of_others(layout: AccountLayout, domain: Domain, place: Folder) -> bool:
    if any(hold.kind in _OTHERS and hold.who != domain.name for hold in root_holds(layout, place)):
        return True
    return not all(_is_at(layout, entry, domain) for entry in layout.present.get(place, ()))


def linked_in(layout: AccountLayout, folder: Folder) -> set[Folder]:
    """The folders inside one to which links from elsewhere lead: they go along, and stay for those as well."""
    return {
        target for link, target in layout.links_to
        if target.is_inside(folder) and not (link == folder or link.is_inside(folder))
    }  # fmt: skip


def _stands_for(layout: AccountLayout, domain: Domain) -> int | None:
    end = stands_for(layout.account, domain)
    return end.number if end is not None else None


def _is_at(layout: AccountLayout, installation: Installation, domain: Domain) -> bool:
    """Whether an installation answers at a host of a domain."""
    mount = layout.hosts.mount(installation.address)
    return mount is not None and mount.domain.number == domain.number
