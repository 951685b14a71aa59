"""Rules about what can be reached and should not, and what should be reached and is not."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator

from kettlepost.core.answering import Requests, answer_at, standing_in
from kettlepost.core.layout import AccountLayout, FolderState, Mount, own_tables, stands_for
from kettlepost.core.messages import joined, say, series
from kettlepost.core.names import Address, Folder, printable
from kettlepost.core.plan import Domain, Installation
from kettlepost.core.quoting.apache import Apache, in_quotes
from kettlepost.core.remedies import Action, Remedy
from kettlepost.core.rules.consequences import AT_THE_SAME, INSIDE
from kettlepost.core.rules.files import moved_out, removed
from kettlepost.core.rules.findings import Finding, Party, WayOut
from kettlepost.core.rules.moves import for_hosts, moved_roots, own_subdomain, reading_in
from kettlepost.core.rules.parties import application_party, application_words, domain_party, installation_party
from kettlepost.core.rules.protection import protecting
from kettlepost.core.rules.registry import RuleReach, account_rule
from kettlepost.core.rules.removal import removal
from kettlepost.core.rules.ways_out import MANY, free_root, setting
from kettlepost.core.steps import (
    AddLines,
    ChangeRoot,
    CompleteEntry,
    Decide,
    MakeFolder,
    ProtectName,
    PutPage,
    Question,
    Step,
    TellSearchEngines,
)
from kettlepost.core.survey import KEEPING_OUT, SET_ASIDE, FoundExposed
from kettlepost.core.words import counted, one

_HIDDEN = (*KEEPING_OUT, "shuts out search engines")


@account_rule("private-exposed", "risk", reaches=RuleReach.FOLDER, follows={"root-is-home": INSIDE})
def private_exposed(layout: AccountLayout) -> Iterator[Finding]:
    """A dump, a backup, a repository or a key lies where anybody can fetch it.

    Programs ask every site for `backup.zip`, `.git/config` and `dump.sql` day and night. What
    lies below a root without a password is read. Where many of a kind lie in one folder, they
    are one finding.

    Bad:

        # there: www/index.html = "Trains run on the first Sunday of the month."
        # there: www/members.sql = "rows"

    Good:

        # there: www/index.html = "Trains run on the first Sunday of the month."
        # there: keep/members.sql = "rows"

    Ways out:

    - move it out of the root;
    - remove it; of a key or a configuration also change what it opens.
    """
    contents = layout.contents
    if contents is None:
        return
    requests: Requests | None = None
    groups: dict[tuple[Folder, str], list[FoundExposed]] = defaultdict(list)
    for exposed in contents.survey.exposed:
        groups[exposed.folder, exposed.kind].append(exposed)
    for (folder, kind), there in groups.items():
        addresses = layout.addresses_of(folder) or layout.tree("now").addresses_of(folder)
        if not addresses:
            continue
        if contents.survey.controls:
            requests = requests or Requests(layout, "now")
            there = [exposed for exposed in there if not _is_kept_back(requests, addresses[0].below(exposed.name))]
        for some in [there] if len(there) > MANY else [[exposed] for exposed in there]:
            yield _exposed(layout, folder, kind, some, addresses)


@account_rule("set-aside-reached", "risk", reaches=RuleReach.FOLDER, follows={"root-is-home": INSIDE})
def set_aside_reached(layout: AccountLayout) -> Iterator[Finding]:
    """An address leads to what was set aside by a clearing.

    What was taken out of the way keeps its files as they were, configurations with passwords among them, without the
    control files that may have kept them shut. No address is to lead there.

    Bad:

        [[domain]]
        name = "files.millbrookrail.example"
        kind = "subdomain"
        root = "kettlepost-set-aside"

        # there: kettlepost-set-aside/20261126-120000/manifest.jsonl = "{}"

    Good:

        [[domain]]
        name = "files.millbrookrail.example"
        kind = "subdomain"
        root = "files"

        # there: kettlepost-set-aside/20261126-120000/manifest.jsonl = "{}"

    Ways out:

    - give the domain a folder of its own;
    - put back, or discard, what is set aside.
    """
    aside = Folder(SET_ASIDE)
    if layout.contents is None or not layout.contents.exists(aside):
        return
    found: dict[Address, Mount] = {}
    for when in ("planned", "now"):
        tree = layout.tree("now" if when == "now" else "planned")
        for place in (aside, *map(Folder, layout.contents.inside(aside)), *aside.above()):
            for mount in tree.mounts.get(place, ()):
                found.setdefault(mount.address.below(aside.relative_to(place) if aside.is_inside(place) else ""), mount)
    if not found:
        return
    domains = {mount.domain.number: mount.domain for mount in found.values()}
    first = next(iter(domains.values()))
    decided = [Decide(layout.name, Question.IS_NEEDED, (aside.shown,))]
    aside_list = Remedy.of(Action.LIST_SET_ASIDE, layout.name)
    ways = [WayOut(say("set-aside-reached/put-back-discard"), remedy=aside_list, steps=decided)]
    if first.root is not None and first.claims_root:
        free = free_root(layout, first.name)
        words = say("set-aside-reached/give-folder-free", first=first.name, free=free.shown)
        moved = (MakeFolder(layout.name, free), ChangeRoot(layout.name, first.name, first.root, free))
        steps = (*moved, *reading_in(layout, [first]))
        ways.insert(0, WayOut(words, [setting(layout, first, root=str(free))], steps=steps, expects=("empty-root",)))
    yield Finding(
        at=aside.shown,
        title=say("set-aside-reached/title", aside=aside.shown, found=map(str, found)),
        why=say("set-aside-reached/why"),
        parties=[domain_party(layout.account, domain) for domain in domains.values()],
        ways_out=ways,
    )


@account_rule("unmapped-site", "risk", reaches=RuleReach.FOLDER)
def unmapped_site(layout: AccountLayout) -> Iterator[Finding]:
    """An application lies in a folder that no address reaches.

    It was forgotten: nobody uses it and nobody updates it, yet its files and its database count
    against the package, and a domain or a link that leads there brings it back as it was.

    Bad:

        # there: old/barrow/core.php
        # there: old/shop.php

    Good:

        # there: www/old/barrow/core.php
        # there: www/old/shop.php

    Ways out:

    - keep a copy and remove it, with its database;
    - declare the domain that leads to it, and write it into the plan.
    """
    if layout.contents is None:
        return
    for found in layout.contents.applications.values():
        if found.folder in layout.placed or layout.addresses_of(found.folder):
            continue
        if layout.tree("now").addresses_of(found.folder):
            continue  # a domain that is to go, or to lead elsewhere, still shows it today
        tables = own_tables(layout, found.folder, None, found)
        counts = tables is not None and tables.is_whole
        database = say("unmapped-site/database", tables=printable(tables.name)) if tables is not None and counts else ""
        party = application_party(layout, found)
        files = counted(layout.contents.totals(found.folder).files, "file")
        yield Finding(
            at=found.folder.shown,
            title=say("unmapped-site/title", application=application_words(layout, found), folder=found.folder.shown),
            why=say("unmapped-site/why", files=files, database=database),
            parties=[party],
            ways_out=[
                removal(layout, found.base, found=found),
                WayOut(
                    say("unmapped-site/wanted-declare-domain"),
                    steps=[
                        CompleteEntry(layout.name, "domain", None, ("name", "root")),
                        CompleteEntry(layout.name, "installation", None, ("application", "address")),
                    ],
                ),
            ],
        )


@account_rule("second-door", "stop", reaches=RuleReach.FOLDER)
def second_door(layout: AccountLayout) -> Iterator[Finding]:
    """A protected or staging site is reached at another address that is not protected.

    A password that the server asks for at one host is not asked for at another that leads to
    the same folder: through a root it lies inside, a temporary address, or the extra host name
    of an add-on domain. A password in a control file of the folder itself holds at all of them.

    Bad:

        [[domain]]
        name = "members.millbrookrail.example"
        kind = "subdomain"
        root = "www/members"
        protected = true

    Good:

        [[domain]]
        name = "members.millbrookrail.example"
        kind = "subdomain"
        root = "members"
        protected = true

    Ways out:

    - ask for the password in a control file in the folder itself;
    - give the site a root outside every other one.
    """
    requests: Requests | None = None
    guarded: dict[Folder, tuple[Party, Domain, Installation | None]] = {}
    for domain in layout.account.domains:
        if domain.protected and domain.claims_root and domain.root is not None:
            guarded[layout.real(domain.root)] = (domain_party(layout.account, domain), domain, None)
    for folder, installation in layout.rehearsals:
        mount = layout.hosts.mount(installation.address)
        if mount is not None:
            party = installation_party(layout.account, installation)
            guarded.setdefault(folder, (party, mount.domain, installation))
    for folder, (party, own, rehearsal) in guarded.items():
        requests = requests or Requests(layout)
        doors = [
            address
            for address in layout.addresses_of(folder)
            if _is_door(layout, address, own) and not is_shut(requests, address)
        ]
        if not doors:
            continue
        opened = {mount.domain.number: mount.domain for door in doors if (mount := layout.hosts.mount(door))}
        yield Finding(
            at=folder.shown,
            title=say("second-door/title", party=party.name, doors=map(str, doors)),
            why=say("second-door/why"),
            parties=[party, *(domain_party(layout.account, domain) for domain in opened.values() if domain is not own)],
            ways_out=[
                WayOut(say("second-door/ask-password-control", folder=folder.shown), steps=protecting(layout, folder)),
                *_shut_doors(layout, folder, own, rehearsal, doors),
            ],
        )


@account_rule("staging-open", "risk", reaches=RuleReach.NONE)
def staging_open(layout: AccountLayout) -> Iterator[Finding]:
    """A staging site that search engines may list.

    Half-finished pages and copies of live ones then stand in search results, and visitors order
    from the rehearsal. A password, `Disallow: /` in its robots.txt, or the application's own
    setting (`indexing = false` in the plan) keeps them out.

    Bad:

        [[domain]]
        name = "new.millbrookrail.example"
        kind = "subdomain"
        root = "new"

        [[installation]]
        application = "barrowshop"
        address = "new.millbrookrail.example"
        staging_of = "millbrookrail.example/shop"

    Good:

        [[domain]]
        name = "new.millbrookrail.example"
        kind = "subdomain"
        root = "new"

        [[installation]]
        application = "barrowshop"
        address = "new.millbrookrail.example"
        staging_of = "millbrookrail.example/shop"
        indexing = false

    Ways out:

    - tell the application to keep search engines out, and write indexing = false;
    - ask for a password at the domain, and write protected = true.
    """
    for folder, installation in layout.rehearsals:
        mount = layout.hosts.mount(installation.address)
        if not installation.indexing or (mount is not None and mount.domain.protected):
            continue
        if _shut(layout, folder, _HIDDEN):
            continue
        ways = [
            WayOut(
                say(
                    "staging-open/tell-keep-search",
                    application=installation.application,
                    place=layout.account.place(installation),
                ),
                [setting(layout, installation, indexing=False)],
                steps=[TellSearchEngines(layout.name, lets_in=False)],
            )
        ]
        if mount is not None:
            protect = [setting(layout, mount.domain, protected=True)]
            words = say("staging-open/ask-password-write", domain=mount.domain.name)
            ways.append(WayOut(words, protect, steps=[ProtectName(layout.name, mount.domain.name)]))
        yield Finding(
            at=str(installation.address),
            title=say("staging-open/title", address=installation.address, staging_of=installation.staging_of),
            why=say("staging-open/why"),
            parties=[installation_party(layout.account, installation, "staging_of")],
            ways_out=ways,
        )


@account_rule(
    "empty-root", "risk", reaches=RuleReach.FOLDER, follows={"shared-root": AT_THE_SAME, "root-is-home": AT_THE_SAME}
)
def empty_root(layout: AccountLayout) -> Iterator[Finding]:
    """A domain's visitors see an error or a list of files: no index file lies in its root.

    A list shows every file's name to anybody. Where an installation is planned in the root,
    or everything lies in subfolders that the plan knows, it comes from there, and a page that
    sends visitors on would do.

    Bad:

        # there: www/timetable.txt = "Trains run on the first Sunday of the month."

    Good:

        # there: www/index.html = "Trains run on the first Sunday of the month."

    Ways out:

    - put an index page there;
    - send visitors on to the address that is meant, from a control file in the root.
    """
    if layout.contents is None:
        return
    state, requests = FolderState(layout, "now"), Requests(layout, "now")
    has_controls = bool(layout.contents.survey.controls)

    shown_first = frozenset(layout.index_files)

    def footprint(folder: Folder) -> bool:
        return has_controls and (requests.may_touch(folder) or requests.may_touch(folder.below("x")))

    for root, domains in layout.roots.items():
        domain = domains[0]
        there = layout.contents.folders.get(root)
        if there is None or not layout.points_here(domain) or domain.state == "planned" or layout.standing.get(root):
            continue
        if domain.root_now is not None:  # its visitors are still elsewhere
            continue
        if not footprint(root) and not shown_first.isdisjoint(there.index):
            continue
        mount = next(iter(layout.mounts.get(root, ())), None)
        seen = answer_at(state, mount) if mount is not None else standing_in(state, root)
        if seen.kind not in ("listing", "empty folder"):
            continue
        below = [
            one
            for folder in layout.claimed_inside(root)
            for one in layout.standing.get(folder, ())
            if layout.reach(one.address) not in (root, None)
        ]
        page = PutPage(layout.name, root, _page_name(requests.index_order(root)))
        ways = [WayOut(say("empty-root/put-index-page", root=root.shown), steps=[page])]
        if below:
            words = say("empty-root/send-visitors-control", domain=domain.name, address=below[0].address)
            ways.insert(0, WayOut(words, steps=_sent_below(layout, root, below[0].address)))
        yield Finding(
            at=root.shown,
            title=say("empty-root/title", domain=domain.name, is_kind=seen.kind == "empty folder", root=root.shown),
            why=say("empty-root/why"),
            parties=[domain_party(layout.account, other) for other in domains],
            ways_out=ways,
        )


def _exposed(
    layout: AccountLayout, folder: Folder, kind: str, some: list[FoundExposed], addresses: list[Address]
) -> Finding:
    paths = [printable(folder.below(exposed.name)) for exposed in some]
    what = one(kind) if len(some) == 1 else counted(len(some), kind)
    reached = str(addresses[0].below(some[0].name) if len(some) == 1 else addresses[0])
    more = say("exposed/and-more-addresses", addresses=len(addresses) - 1) if addresses[1:] else ""
    to, steps = moved_out(layout, folder, [exposed.name for exposed in some])
    steps = steps or [Decide(layout.name, Question.WHERE_ELSE, tuple(paths))]
    where = say("exposed/address-reaches", to=to.shown) if to is not None else say("exposed/out-every-root")
    return Finding(
        at=paths[0] if len(some) == 1 else folder.shown,
        title=say("exposed/title", what=what, paths=paths, reached=reached),
        why=say("exposed/why", more=more),
        parties=[Party(kind, path, found=say("party/seen")) for path in paths[:MANY]],
        ways_out=_ways_out(
            layout, folder, kind, some, WayOut(say("exposed/move", paths=paths, where=where), steps=steps)
        ),
    )


def _page_name(order: list[str]) -> str:
    """Under which name a page is shown in a folder: the first that is a page's, else the first that is looked for."""
    names = [name for name in order if "/" not in name] or ["index.html"]
    return next((name for name in names if name.endswith((".html", ".htm"))), names[0])


def _sent_below(layout: AccountLayout, root: Folder, to: Address) -> list[Step]:
    """The line that sends visitors of a root on to an address below it; by hand where no control file is obeyed."""
    mount = layout.hosts.mount(to)
    if not layout.obeys_control_files or mount is None:
        return [Decide(layout.name, Question.WHICH_NAME, (str(to),))]
    goes = f"{'https' if mount.domain.https else 'http'}://{str(to).rstrip('/')}/"
    lines = [str(Apache.of("RedirectMatch 302 ^/$ «goes»", goes=in_quotes(goes)))]
    if any(place.is_inside(root) for place in layout.tree("now").mounts):
        lines = for_hosts((mount.address.host for mount in layout.mounts[root]), lines)
    if not lines:
        return [Decide(layout.name, Question.WHICH_NAME, (str(to),))]
    return [AddLines(layout.name, root, ".htaccess", tuple(lines))]


def _ways_out(layout: AccountLayout, folder: Folder, kind: str, some: list[FoundExposed], away: WayOut) -> list[WayOut]:
    """What to do about something that can be fetched: `away` is to move it where nobody can."""
    it = "it" if len(some) == 1 else "them"
    opened = kind in ("private key", "configuration backup", "environment file")
    gone = joined(say("ways-out/remove", it=it), say("ways-out/change-opens") if opened else None)
    steps = removed(layout, folder, [exposed.name for exposed in some])
    if kind == "phpinfo page":
        return [WayOut(gone, steps=steps)]
    kept = _kept_in_place(layout, folder, kind, some) if kind in ("environment file", "database tool") else away
    return [kept, WayOut(say("ways-out/nobody-needs", it=it, gone=gone), steps=steps)]


def _kept_in_place(layout: AccountLayout, folder: Folder, kind: str, some: list[FoundExposed]) -> WayOut:
    """How something is kept from visitors that works only where it lies."""
    names = series((printable(exposed.name) for exposed in some), 4)
    control = printable(folder.below(".htaccess"))
    if kind == "database tool":
        words = say("kept-in-place/let-fetched-password", names=names, control=control)
        return WayOut(words, steps=protecting(layout, folder, [one.name for one in some]))
    if not layout.obeys_control_files:
        served = say("kept-in-place/leave-and-deny", some=printable(some[0].name))
        places = tuple(folder.below(one.name).shown for one in some)
        return WayOut(served, steps=[Decide(layout.name, Question.WHERE_ELSE, places)])
    lines = [line for one in some for line in (f"<Files {in_quotes(one.name)}>", "Require all denied", "</Files>")]
    words = say("kept-in-place/leave-where-application", some=printable(some[0].name), control=control)
    return WayOut(words, steps=[AddLines(layout.name, folder, ".htaccess", tuple(lines))])


def _shut(layout: AccountLayout, folder: Folder, by: tuple[str, ...]) -> bool:
    """Whether a control file in `folder` or above keeps people, or search engines, out of it."""
    if layout.contents is None:
        return False
    return any(
        effect.does in by
        for above in (folder, *folder.above())
        for control in layout.contents.controls(above)
        for effect in control.effects
    )


def _shut_doors(
    layout: AccountLayout, folder: Folder, own: Domain, rehearsal: Installation | None, doors: Iterable[Address]
) -> Iterator[WayOut]:
    """A place of its own where it is reached through others' roots; the host's password at each of its other names."""
    mounts = [mount for door in doors if (mount := layout.hosts.mount(door)) is not None]
    around = [mount for mount in mounts if mount.folder != folder]
    if around and rehearsal is not None:
        moved = own_subdomain(layout, rehearsal)
        yield from [moved] if moved is not None else []
    elif around and own.claims_root:
        yield moved_roots(layout, [own])
    names = list(dict.fromkeys(mount.address.host for mount in mounts if mount.folder == folder))
    if names:
        words = say("shut-doors/host-ask-password", names=names)
        entries = {mount.domain.number: mount.domain for mount in mounts if mount.folder == folder}
        changes = [setting(layout, domain, protected=True) for domain in entries.values() if domain is not own]
        yield WayOut(words, changes, steps=[ProtectName(layout.name, name) for name in names])


def _is_door(layout: AccountLayout, address: Address, own: Domain) -> bool:
    """Whether an address leads to a site of `own` past what protects it."""
    mount = layout.hosts.mount(address)
    if mount is None or mount.domain is own:
        return mount is not None and own.protected and _is_extra(mount)
    if mount.domain.protected:
        return False
    return mount.domain.kind == "temporary" or stands_for(layout.account, mount.domain) is not own


def _is_extra(mount: Mount) -> bool:
    """Whether a host is the further one that an add-on domain was given, and written nowhere."""
    domain, host = mount.domain, mount.address.host
    return host != domain.name and host not in domain.also and not domain.www


def _is_kept_back(requests: Requests, address: Address) -> bool:
    """Whether a control file sees to it that nothing there can be fetched, nor anything below it."""
    for path in (f"/{address.path}", f"/{address.path}/x"):
        reply = requests.reply(address, path)
        if reply is None or not reply.is_sure or reply.status not in (401, 403, 410, 500) or reply.folder is not None:
            return False
    return True


def is_shut(requests: Requests, address: Address) -> bool:
    """Whether a control file keeps people out of what an address leads to."""
    given = requests.final_reply(address)
    if given is None or not given.reply.is_sure or given.reply.folder is not None:
        return False
    return given.reply.status in (401, 403, 500)
