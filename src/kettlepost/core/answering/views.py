"""The layout as people look at it: by address, by folder, and one address in full."""

from __future__ import annotations

from collections.abc import Iterator
from functools import cache, partial

from msgspec import Struct, field

from kettlepost.core.answering.answers import answer, answer_in, standing_in
from kettlepost.core.answering.facts import Answer, Certainty
from kettlepost.core.answering.serving import Request
from kettlepost.core.answering.wording import answer_words, doubt_words, reasons
from kettlepost.core.layout import (
    AccountLayout,
    Claim,
    Destination,
    Mount,
    PlanLayout,
    When,
    held_folders,
    hidden_inside,
    shown_folders,
    stands_for,
)
from kettlepost.core.messages import Message, Words, say
from kettlepost.core.names import Address, Folder, HostName, nearest, printable
from kettlepost.core.plan import Domain, Installation, SourcePlace
from kettlepost.core.remedies import Remedy
from kettlepost.core.survey import FoundApplication, FoundPlaceholder


class AddressRow(Struct):
    """One address of the plan: a mount or an installation, what it is there for, and where visitors are sent on."""

    address: str
    folder: str | None
    declared: Words
    now: Words
    file: str
    line: int
    goes: str | None = None


class FolderRow(Struct):
    """One folder that is shown in the tree; `hidden` counts folders inside it that are not."""

    folder: Folder
    addresses: list[str]
    claims: list[str]
    there: Words
    hidden: int = 0


class WhereView(Struct):
    """Everything about one address; `nearest` when it is not one of ours, `remedy` when more could be known.

    `chain` tells step by step why this is what answers, at the time that `when` names. `asked` is how it
    was asked for, where more than the address matters, `seen` what a server was seen to do with the host.
    """

    address: str
    when: When
    answers: str
    words: Words
    status: int | None = None
    certainty: Certainty = "certain"
    account: str | None = None
    client: str | None = None
    domain: str | None = None
    declared: Words | None = None
    root: str | None = None
    folder: str | None = None
    answering_file: str | None = None
    sent_to: str | None = None
    chain: list[Words] = field(default_factory=list)
    also: list[str] = field(default_factory=list)
    claims: list[Words] = field(default_factory=list)
    nearest: list[str] = field(default_factory=list)
    depends: list[Words] = field(default_factory=list)
    asked: str | None = None
    seen: str | None = None
    remedy: Remedy | None = None


def by_address(layouts: PlanLayout, layout: AccountLayout) -> Iterator[AddressRow]:
    """Every address that the account's plan names, those of one site together, sorted by host and path."""
    rows: list[tuple[Address, Folder | None, Words, SourcePlace, str | None]] = []
    for mounts in layout.hosts.values():
        for mount in mounts:
            place = layout.account.place(mount.alias or mount.domain)
            goes = str(mount.goes) if mount.goes is not None else None
            rows.append((mount.address, mount.folder, _mount_words(mount), place, goes))
    placed = [(folder, installation) for folder, there in layout.placed.items() for installation in there]
    for folder, installation in [*placed, *((None, installation) for installation in layout.homeless)]:
        rows.append(
            (
                installation.address,
                folder,
                f"{installation.application}, {installation.state}",
                layout.account.place(installation),
                None,
            )
        )
    site = cache(partial(_site, layout))
    rows.sort(key=lambda row: (*site(row[0].host), row[0], row[3].file, row[3].line))
    for address, there, declared, place, goes in rows:
        shown = there.shown if there is not None else None
        yield AddressRow(
            str(address), shown, declared, _now_at(layouts, layout, address, there), place.file, place.line, goes
        )


def _site(layout: AccountLayout, host: HostName) -> tuple[str, bool]:
    """The domain that a host stands for, and whether it is another name of that."""
    mounts = layout.hosts.serving(host)
    main = stands_for(layout.account, mounts[-1].domain) if mounts else None
    return (main.name, host != main.name) if main is not None else (host, False)


def by_folder(layouts: PlanLayout, layout: AccountLayout, every: bool = False) -> list[FolderRow]:
    """The folders somebody holds with those above them and those in the home, or every folder, as a tree."""
    contents = layout.contents
    known = [found.folder for found in contents.survey.folders] if contents else []
    held = held_folders(layout)
    shown = shown_folders(known, held, every)
    hidden = hidden_inside(known, set(shown))
    return [
        FolderRow(
            folder,
            [str(address) for address in layout.addresses_of(folder)] if folder in held else [],
            [f"{installation.state} {installation.application}" for installation in layout.placed.get(folder, ())],
            _now(layouts, layout, folder) if folder in held else "",
            hidden[folder],
        )
        for folder in shown
    ]


def where(layouts: PlanLayout, address: Address, when: When = "now", request: Request | None = None) -> WhereView:
    """All there is to say about one address; `request` says more of how it is asked for."""
    request = request or Request(address)
    found = answer(layouts, address, when, request)
    view = WhereView(str(address), when, found.kind, answer_words(found), chain=reasons(found), remedy=found.remedy)
    view.status, view.certainty, view.depends = found.status, found.certainty, list(map(doubt_words, found.doubts))
    if not request.is_plain:
        view.asked = printable(f"{address.host}{request.written_path}" + (f"?{request.query}" if request.query else ""))
    if found.reach is None:
        view.nearest = nearest(address.host, layouts.hosts, 3)
        return view
    mount, folder = found.reach.mount, found.reach.folder
    layout = layouts.accounts[mount.account.name]
    view.account, view.client = layout.name, mount.account.settings.client
    view.domain = mount.address.host
    view.declared = say("declared/at", declared=_mount_words(mount), place=layout.account.place(mount.domain))
    view.sent_to = str(found.goes) if found.goes is not None else None
    view.answering_file = found.file.shown if found.file is not None else None
    view.seen = _at_the_server(layout, mount.address.host)
    if folder is not None and mount.folder is not None:
        view.root, view.folder = mount.folder.shown, folder.shown
        view.also = [str(other) for other in layout.tree(when).addresses_of(folder) if other != address]
        view.claims = [claim_words(layout, claim) for claim in layout.claims(folder)]
    return view


def _at_the_server(layout: AccountLayout, host: HostName) -> str | None:
    """How a server had a host when its configuration was read in."""
    outside = layout.outside
    one = next((one for one in outside.hosts if one.host == host), None) if outside is not None else None
    if one is None or outside is None:
        return None
    leads = f"-> {one.sends_to}" if one.sends_to else one.root
    return f"{printable(leads)} ({printable(one.source)}, {outside.taken[:10]})"


class FolderView(Struct):
    """Every address that reaches one folder of one account, and what is there."""

    account: str
    folder: str
    when: When
    addresses: list[str]
    answers: str
    words: Words
    claims: list[Words]
    remedy: Remedy | None = None
    status: int | None = None
    certainty: Certainty = "certain"


def where_folder(layouts: PlanLayout, layout: AccountLayout, folder: Folder, when: When = "now") -> FolderView:
    """All there is to say about one folder."""
    real = layout.real(folder)
    seen = _seen(layouts, layout, real, None, when)
    claims: list[Words] = [claim_words(layout, claim) for claim in layout.claims(real)]
    addresses = [str(address) for address in layout.tree(when).addresses_of(real)]
    return FolderView(
        layout.name, folder.shown, when, addresses, seen.kind, answer_words(seen), claims, seen.remedy, seen.status,
        seen.certainty,
    )  # fmt: skip


def claim_words(layout: AccountLayout, claim: Claim) -> Message:
    """Who holds a folder, such as `root of lanternchoir.example (accounts/millbrook.toml:12)`."""
    holder = claim.holder
    if isinstance(holder, Domain):
        return say("claim/root", name=holder.name, place=layout.account.place(holder))
    if isinstance(holder, Installation):
        return say(
            "claim/installation", state=holder.state, application=holder.application, address=holder.address,
            still=say("declared/still-at", folder=holder.address_now) if holder.address_now is not None else None,
            place=layout.account.place(holder),
        )  # fmt: skip
    if isinstance(holder, FoundApplication):
        version = f" {printable(holder.version)}" if holder.version else ""
        return say("claim/found", application=layout.title(holder.application), version=version)
    if isinstance(holder, FoundPlaceholder):
        return say("claim/placeholder", file=printable(holder.file))
    return say("claim/control-file", file=printable(holder))


def _mount_words(mount: Mount) -> Message:
    domain = mount.domain
    sent = say("declared/redirects", goes=mount.goes) if mount.goes is not None else None
    if mount.alias is not None:
        return say("declared/path-alias")
    if mount.address.host != domain.name:
        return say("declared/other-name", domain=domain.name, sent=sent)
    return say(
        "declared/domain", kind=domain.kind,
        of=say("declared/of", of=domain.of) if domain.of is not None else None,
        sent=sent,
        state=f", {domain.state}" if domain.state != "live" else None,
        still=say("declared/still-at", folder=domain.root_now.shown) if domain.root_now is not None else None,
    )  # fmt: skip


def _now_at(layouts: PlanLayout, layout: AccountLayout, address: Address, there: Folder | None) -> Message:
    """What is there now at an address of the plan, which leads to the folder `there` once that is carried out."""
    mount = layout.hosts.mount(address)
    if mount is not None and mount.domain.state == "planned":
        return say("now/domain-planned")
    today = layout.tree("now").reach(address) if mount is not None and mount.domain.root_now is not None else there
    if today is not None:
        return _now(layouts, layout, today, address)
    reach = layouts.reach(address, "now")
    onward = reach.mount.sent_to(address) if reach is not None else None
    target = layouts.hosts.get(onward.host, ()) if onward is not None else ()
    if onward is not None and target and layout.name not in target:
        return say("answer/sent-on", name=onward)  # what answers there is for that account to tell
    return answer_words(answer(layouts, address), in_full=False)


def _now(layouts: PlanLayout, layout: AccountLayout, folder: Folder, address: Address | None = None) -> Message:
    if layout.contents is None:
        return say("now/not-surveyed")
    return answer_words(_seen(layouts, layout, folder, address, "now"), in_full=False)


def _seen(layouts: PlanLayout, layout: AccountLayout, folder: Folder, address: Address | None, when: When) -> Answer:
    """What a visitor gets of a folder: at an address that leads there, at the first where none is given."""
    state, tree = layouts.folder_state(layout.name, when), layout.tree(when)
    address = address or next(iter(tree.addresses_of(folder)), None)
    mount = tree.hosts.mount(address) if address is not None else None
    if address is None or mount is None or mount.folder is None:
        return standing_in(state, folder)
    return answer_in(state, Destination(mount, folder, mount.way_to(address)), Request(address))
