"""Rules about what is on its way: what is to move, and what has come or gone as it was planned."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from kettlepost.core.layout import (
    AccountLayout,
    Contents,
    Deployment,
    database_as_found,
    has_moved,
    has_relocated,
    holds_in,
    own_tables,
)
from kettlepost.core.messages import Words, joined, say, series
from kettlepost.core.names import HOME, Folder, printable
from kettlepost.core.plan import Change, Domain, Installation
from kettlepost.core.remedies import Action, Remedy
from kettlepost.core.rules.findings import Finding, WayOut
from kettlepost.core.rules.going_live import GoingLive, going_live, gone_live, has_gone_live, is_set_aside, taking_over
from kettlepost.core.rules.moves import moving_words, reading_in, root_steps
from kettlepost.core.rules.parties import (
    application_party,
    application_words,
    at_its_address,
    domain_party,
    installation_party,
)
from kettlepost.core.rules.registry import RuleReach, account_rule
from kettlepost.core.rules.relocation import relocation_steps, settling
from kettlepost.core.rules.removal import files_at
from kettlepost.core.rules.ways_out import MANY, dropping, setting, staying
from kettlepost.core.steps import Decide, LookAgain, Question, Step


@account_rule("root-to-move", "note", reaches=RuleReach.FOLDER)
def root_to_move(layout: AccountLayout) -> Iterator[Finding]:
    """A domain is to lead to another root than it does today.

    Until its files have been copied and the root is changed at the host, it answers from the old
    folder, with all that is wrong there. Once the survey shows what was there in the new folder,
    the domain has moved, and its `root_now` can go.

    Bad:

        [[domain]]
        name = "millbrookrail.example"
        kind = "primary"
        root = "rail"
        root_now = "www"

    Good:

        [[domain]]
        name = "millbrookrail.example"
        kind = "primary"
        root = "rail"

    Ways out:

    - copy the files, change the root at the host, set the old files aside, and confirm it;
    - if it is to stay where it is, write the old root.
    """
    moving = [
        domain
        for domain in layout.account.domains
        if domain.root_now is not None and domain.root is not None and domain.claims_root
    ]
    there = {domain.number for domain in moving if has_moved(layout, domain)}
    waiting = [domain for domain in moving if domain.number not in there]
    yield from (_moved(layout, domain) for domain in moving if domain.number in there)
    if len(waiting) > MANY:
        yield _many_to_move(layout, waiting)
    else:
        yield from (_to_move(layout, domain) for domain in waiting)


@account_rule("installation-to-move", "note", reaches=RuleReach.ACCOUNT)
def installation_to_move(layout: AccountLayout) -> Iterator[Finding]:
    """An installation is to answer at another address, or to lie in another folder, than it does today.

    Until it has moved, visitors find it at the old address alone. The old files stay until the new address was looked
    at, and the old one leads to it; both count against what the package allows for so long. Once the survey shows it
    where it is to lie, and no more where it lay, it has moved, and `address_now` and `folder_now` can go.

    Bad:

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example"
        address_now = "millbrookrail.example/new"

    Good:

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example"

        [[moved]]
        from = "millbrookrail.example/new"
        to = "millbrookrail.example"

    Ways out:

    - copy the files, tell the application its new address, send visitors of the old one on, set the old files aside,
      and confirm it;
    - if it is to stay where it is, write the old address.
    """
    for installation in layout.moving:
        named = at_its_address(installation)
        was = str(installation.address_now or installation.address)
        old, new = layout.comes_from(installation), layout.folder_of(installation)
        lay, lies = (folder.shown if folder is not None else "" for folder in (old, new))
        done, confirms = settling(layout, installation), Remedy.of(Action.CONFIRM, str(installation.address))
        if has_relocated(layout, installation):
            ways = [WayOut(say("relocation/take-out"), [done], confirms)]
            title, why = say("relocation/moved", named=named, new=lies, old=lay), say("relocation/why-moved")
        else:
            steps = relocation_steps(layout, installation)
            back = setting(layout, installation, **staying(layout, installation))
            own = (installation.address_now, installation.address)
            promised = [dropping(layout, one) for one in layout.account.moved if (one.old, one.to) == own]
            stay = WayOut(say("relocation/stay", was=was), [back, *promised])
            move = WayOut(say("relocation/move", named=named, was=was), [done], confirms, steps)
            ways = [move, stay] if steps else [stay]
            title, why = say("relocation/to-move", named=named, was=was), say("relocation/why", was=was)
        yield Finding(
            at=str(installation.address),
            title=title,
            why=why,
            parties=[installation_party(layout.account, installation, "address_now")],
            ways_out=ways,
        )


@account_rule("rehearsal-to-go-live", "note", reaches=RuleReach.ACCOUNT)
def rehearsal_to_go_live(layout: AccountLayout) -> Iterator[Finding]:
    """A rehearsal is to take the place of what it rehearses, with what was tried out on it.

    Until its files are there, visitors see what was live before. What is written there meanwhile is lost, but for the
    data that it keeps. Once the configuration where visitors are led names the tables of the rehearsal, it has come:
    from then on those are the live ones, and what is tried out on the rehearsal happens to them.

    Bad:

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example/shop"
        database = { name = "millb_shop", prefix = "bs4_" }

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example/try"
        staging_of = "millbrookrail.example/shop"
        goes_live = true
        database = { name = "millb_try", prefix = "bs4_" }

    Good:

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example/shop"
        database = { name = "millb_try", prefix = "bs4_" }

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example/try"
        state = "retired"
        staging_of = "millbrookrail.example/shop"
        database = { name = "millb_shop", prefix = "bs4_" }

    Ways out:

    - do what its work list says, and confirm it, which retires the rehearsal with the tables that were live before;
    - if it is to stay a rehearsal, take `goes_live` out.
    """
    for rehearsal in layout.to_go_live:
        going = going_live(layout, rehearsal)
        stays = [setting(layout, rehearsal, goes_live=None, live_keeps=None)]
        if going is None:
            words, named = say("to-go-live/unknown"), at_its_address(rehearsal)
            title, ways = say("to-go-live/cannot", named=named, live=rehearsal.staging_of), [WayOut(words, stays)]
        elif has_gone_live(layout, going):
            title = say("to-go-live/has-come", named=at_its_address(rehearsal), live=going.live.address)
            done = Remedy.of(Action.CONFIRM, str(going.live.address))
            ways = [WayOut(say("to-go-live/write"), list(gone_live(layout, going)), done)]
        else:
            title = say("to-go-live/title", named=at_its_address(rehearsal), live=going.live.address)
            lists = Remedy.of(Action.LIST_WORK, str(going.live.address))
            steps: list[Step] = [*taking_over(layout, going)]
            do = WayOut(say("to-go-live/do"), list(gone_live(layout, going)), lists, steps)
            ways = [do, WayOut(say("to-go-live/stay"), stays)]
        yield Finding(
            at=str(rehearsal.address),
            title=title,
            why=_why_to_go_live(layout, going),
            parties=[installation_party(layout.account, rehearsal, "goes_live")],
            ways_out=ways,
        )


@account_rule("deployed", "note", "risk", reaches=RuleReach.FOLDER)
def deployed(layout: AccountLayout) -> Iterator[Finding]:
    """A planned installation is there: the survey shows it in its folder.

    It is known for the planned one, and not for somebody's older site, by the database that its
    configuration names, or as an earlier survey showed the folder without it. As long as it is
    written down as planned, nobody looks after it; where something is not as it was planned, it is
    a risk, as backups and the next installation go by the plan.

    Bad:

        [[installation]]
        application = "quillmoor"
        address = "millbrookrail.example"
        state = "planned"
        database = { name = "millb_pages", prefix = "qm3_" }

        # there: www/quill.php
        # there: www/moor/kernel.php
        # there: www/moor/settings.php = "<?php $ink_name = 'millb_pages'; $ink_prefix = 'qm3_';"

    Good:

        [[installation]]
        application = "quillmoor"
        address = "millbrookrail.example"
        database = { name = "millb_pages", prefix = "qm3_" }

        # there: www/quill.php
        # there: www/moor/kernel.php
        # there: www/moor/settings.php = "<?php $ink_name = 'millb_pages'; $ink_prefix = 'qm3_';"

    Ways out:

    - confirm it, which makes it live as it was found;
    - where it differs, mend the one that is wrong, the installation or the plan.
    """
    for there in layout.deployed.values():
        installation, found = there.installation, there.found
        live = confirmed(layout, there)
        known = (
            say("deployed/configuration-names-planned") if there.same_tables else say("deployed/earlier-survey-showed")
        )
        what = say(
            "deployed/deployed",
            application=application_words(layout, found),
            address=installation.address,
            folder=there.folder.shown,
        )
        parties = [installation_party(layout.account, installation, "state"), application_party(layout, found)]
        if not there.deviations:
            yield Finding(
                at=str(installation.address),
                title=say("deployed/title-as-planned", what=what),
                why=say("deployed/why-as-planned", known=known),
                parties=parties,
                ways_out=[
                    WayOut(
                        say("deployed/write-down-live"), [live], Remedy.of(Action.CONFIRM, str(installation.address))
                    )
                ],
            )
            continue
        said = series(deviation.words for deviation in there.deviations)
        yield Finding(
            at=str(installation.address),
            severity="risk",
            title=say("deployed/title", what=what, said=said),
            why=say("deployed/why", known=known),
            parties=parties,
            ways_out=[
                WayOut(say("deployed/right-write-down"), [live]),
                WayOut(
                    say("deployed/plan-right-mend"),
                    steps=[
                        Decide(layout.name, Question.WHAT_IS_RIGHT, (str(installation.address),)),
                        LookAgain(layout.name),
                    ],
                ),
            ],
        )


@account_rule("entry-can-go", "note", reaches=RuleReach.FOLDER | RuleReach.DATABASE)
def entry_can_go(layout: AccountLayout) -> Iterator[Finding]:
    """A retired installation is gone: nothing of it is left in its folder.

    Its entry has done its work.

    Bad:

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example/shop"
        state = "retired"

        # there: www/index.html = "Trains run on the first Sunday of the month."

    Good:

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example/shop"
        state = "retired"

        # there: www/shop/shop.php
        # there: www/shop/barrow/core.php

    Ways out:

    - take the entry out.
    """
    for installation in layout.account.installations:
        if installation.state != "retired" or not is_gone(layout, installation):
            continue
        tables, named = tables_left(layout, installation), at_its_address(installation)
        if tables is not True:
            what = "nothing" if tables is False else say("entry-can-go/file")
            unsure = joined("; ", unsure_tables(installation)) if tables is None else None
            yield Finding(
                at=str(installation.address),
                title=say("entry-can-go/title", what=what, named=named, unsure=unsure),
                why=say("entry-can-go/why"),
                parties=[installation_party(layout.account, installation, "state")],
                ways_out=[
                    WayOut(
                        say("entry-can-go/take-entry-out"),
                        [dropping(layout, installation)],
                        Remedy.of(Action.FORGET, str(installation.address)),
                    )
                ],
            )


def confirmed(layout: AccountLayout, there: Deployment) -> Change:
    """What makes a deployed installation live as it was found."""
    values: dict[str, Any] = {"state": "live"}
    version = printable(there.found.version)
    if version and version != there.installation.version:
        values["version"] = version
    base, planned = database_as_found(there), there.installation.database
    if base is not None and base != planned:
        real = {"name": printable(base.name), "prefix": printable(base.prefix)}
        if planned is None:
            real |= {key: printable(value) for key, value in (("user", base.user), ("server", base.server)) if value}
        values["database"] = real
    return setting(layout, there.installation, **values)


def is_gone(layout: AccountLayout, installation: Installation) -> bool:
    """Whether the survey shows nothing more of a retired installation in its folder, but what others have there."""
    contents, folder = layout.contents, layout.lies_now(installation)
    if contents is None or folder is None:
        return False  # nobody has looked, or knows where
    if folder in layout.standing or not contents.exists(folder):
        return True
    found = contents.applications.get(folder)
    if found is not None:
        return found.application != installation.application
    if folder in layout.roots or folder in layout.tree("now").mounts:
        return True  # what stays there is a root's
    return not _left(layout, contents, folder)


def tables_left(layout: AccountLayout, installation: Installation) -> bool | None:
    """Whether tables are left that are a retired installation's alone; None where nobody looked at the databases."""
    tables, seen = own_tables(layout, layout.lies_now(installation), installation, None), layout.databases
    if tables is None or not tables.is_apart:
        return False  # it had none, or what is there is others' as well
    base = seen.named(tables.name) if seen is not None else None
    if base is None:
        return False if seen is not None and seen.is_whole else None
    return bool(base.beginning(tables.prefix, tables.longer))


def unsure_tables(installation: Installation) -> Words:
    """That nobody knows whether the tables of an installation are left."""
    name = printable(installation.database.name) if installation.database is not None else ""
    return say("unsure-tables/whether-tables-known", name=name)


def _left(layout: AccountLayout, contents: Contents, folder: Folder) -> int:
    """How many files lie in a folder that nobody else uses."""
    others = {hold.place for hold in holds_in(layout, folder) if hold.place != folder}
    outermost = [place for place in others if not any(place.is_inside(other) for other in others)]
    return contents.totals(folder).files - sum(files_at(contents, place) for place in outermost)


def _why_to_go_live(layout: AccountLayout, going: GoingLive | None) -> Words:
    """What visitors see while a rehearsal is to go live, and what is lost."""
    if going is not None and has_gone_live(layout, going):
        return say("to-go-live/why-come")
    is_away = going is not None and is_set_aside(layout, going.live)
    return say("to-go-live/why-away" if is_away else "to-go-live/why")


def _moved(layout: AccountLayout, domain: Domain) -> Finding:
    old, new = _ways(layout, domain)
    return Finding(
        at=domain.name,
        title=say("moved/title", domain=domain.name, new=new.shown, old=old.shown),
        why=say("moved/why"),
        parties=[domain_party(layout.account, domain, "root_now")],
        ways_out=[WayOut(say("moved/take-root-now"), [_done(layout, domain)], Remedy.of(Action.CONFIRM, domain.name))],
    )


def _to_move(layout: AccountLayout, domain: Domain) -> Finding:
    old, new = _ways(layout, domain)
    steps = [*root_steps(layout, domain, domain.root or HOME), *reading_in(layout, [domain])]
    words = say("to-move/move-take-root", domain=domain.name, new=new.shown, moving=moving_words(steps))
    back = setting(layout, domain, root=str(domain.root_now), root_now=None)
    return Finding(
        at=domain.name,
        title=say("to-move/title", domain=domain.name, old=old.shown, new=new.shown),
        why=say("to-move/why", old=old.shown),
        parties=[domain_party(layout.account, domain, "root_now")],
        ways_out=[
            WayOut(words, [_done(layout, domain)], Remedy.of(Action.CONFIRM, domain.name), steps),
            WayOut(say("to-move/stay-write-root", old=old.shown), [back]),
        ],
    )


def _many_to_move(layout: AccountLayout, domains: list[Domain]) -> Finding:
    steps = [step for domain in domains for step in root_steps(layout, domain, domain.root or HOME)]
    steps += reading_in(layout, domains)
    words = say("many-to-move/move-them-one", moving=moving_words(steps))
    return Finding(
        at=layout.name,
        title=say("many-to-move/title", domains=len(domains), domain=domains[0].name),
        why=say("many-to-move/why"),
        parties=[domain_party(layout.account, domain, "root_now") for domain in domains],
        ways_out=[
            WayOut(words, [_done(layout, domain) for domain in domains], Remedy.of(Action.CONFIRM, layout.name), steps)
        ],
    )


def _done(layout: AccountLayout, domain: Domain) -> Change:
    return setting(layout, domain, root_now=None)


def _ways(layout: AccountLayout, domain: Domain) -> tuple[Folder, Folder]:
    """Where a domain leads today, and where it is to."""
    return layout.real(domain.root_now or HOME), layout.real(domain.root or HOME)
