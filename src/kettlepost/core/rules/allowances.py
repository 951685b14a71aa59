"""Rules about what the package allows."""

from __future__ import annotations

from collections.abc import Collection, Iterator
from typing import NamedTuple

from kettlepost.core.layout import AccountLayout, server_key
from kettlepost.core.messages import Words, say
from kettlepost.core.plan import Change, Domain, Installation, Package, Record
from kettlepost.core.rules.findings import Finding, Party, WayOut
from kettlepost.core.rules.parties import domain_party, installation_party
from kettlepost.core.rules.registry import RuleReach, account_rule
from kettlepost.core.rules.ways_out import MANY
from kettlepost.core.steps import CompleteEntry, Decide, Question
from kettlepost.core.survey import SET_ASIDE, is_in

_NEAR = 0.8
NAMES = {
    "addon_domains": "add-on domains",
    "subdomains": "subdomains",
    "aliases": "aliases",
    "databases": "databases",
    "installations": "installations",
    "disk_mb": "MB of disk",
    "files": "files",
}
"""What people call each allowance."""
_KINDS = {"addon_domains": "addon", "subdomains": "subdomain", "aliases": "alias"}


class AllowanceUse(NamedTuple):
    """How much of one allowance is used: what counts now, and what is planned, in the plan's order.

    `records` are what counts, one for each unit, where units are records; `aside` is how much of what counts
    now was set aside by a clearing, `unplanned` how much of it was seen on the server and is in no plan.
    """

    key: str
    name: str
    allowed: int
    live: int
    planned: int
    records: list[Record]
    aside: int = 0
    unplanned: int = 0

    @property
    def total(self) -> int:
        return self.live + self.planned


@account_rule("over-allowance", "stop", reaches=RuleReach.ACCOUNT)
def over_allowance(layout: AccountLayout) -> Iterator[Finding]:
    """The plan needs more of something than the package allows.

    It runs out half-way: the domain is added and there is no database left for it. What is live
    and what is planned are counted apart, and the first entry that no longer fits is named.

    Bad:

        [account]
        name = "millbrook"
        package = "tin"

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example/shop"
        database = { name = "shop", prefix = "bs4_" }

        [[installation]]
        application = "quillmoor"
        address = "millbrookrail.example/news"
        state = "planned"
        database = { name = "news", prefix = "qm3_" }

    Good:

        [account]
        name = "millbrook"
        package = "copper"

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example/shop"
        database = { name = "shop", prefix = "bs4_" }

        [[installation]]
        application = "quillmoor"
        address = "millbrookrail.example/news"
        state = "planned"
        database = { name = "news", prefix = "qm3_" }

    Ways out:

    - take a package that has room;
    - retire something first, or plan the rest on another account.
    """
    uses = uses_of(layout)
    for use in uses:
        if use.total <= use.allowed:
            continue
        room = max(use.allowed - use.unplanned, use.live - use.unplanned if use.unplanned else 0)
        first = use.records[room] if len(use.records) > room else None
        parties = [_record_party(layout, first)] if first is not None else []
        named = say("over-allowance/first-does-fit", what=parties[0].what, first=parties[0].name) if parties else ""
        yield Finding(
            at=use.key,
            title=say(
                "over-allowance/title",
                count=_count(use),
                package=layout.account.settings.package,
                allowed=use.allowed,
                named=named,
            ),
            why=say("over-allowance/why"),
            parties=[*parties, _account_party(layout)],
            ways_out=[
                *_larger(layout, uses),
                WayOut(
                    say("over-allowance/retire-some-first", use=use.name),
                    steps=[Decide(layout.name, Question.WHAT_GOES, (use.name,))],
                ),
            ],
        )


@account_rule("near-allowance", "note", reaches=RuleReach.ACCOUNT)
def near_allowance(layout: AccountLayout) -> Iterator[Finding]:
    """The plan uses four fifths or more of something that the package allows.

    Bad:

        [account]
        name = "millbrook"
        package = "tin"

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example/shop"
        database = { name = "shop", prefix = "bs4_" }

    Good:

        [account]
        name = "millbrook"
        package = "copper"

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example/shop"
        database = { name = "shop", prefix = "bs4_" }

    Ways out:

    - plan the next ones with a larger package, or on another account.
    """
    uses = uses_of(layout)
    for use in uses:
        if use.allowed and use.allowed >= use.total >= _NEAR * use.allowed:
            left = use.allowed - use.total
            yield Finding(
                at=use.key,
                title=say(
                    "near-allowance/title",
                    count=_count(use),
                    allowed=use.allowed,
                    package=layout.account.settings.package,
                ),
                why=say("near-allowance/why", left=left) if left else say("near-allowance/why-full"),
                parties=[_account_party(layout)],
                ways_out=[
                    WayOut(
                        say("near-allowance/plan-comes-next"),
                        steps=[CompleteEntry(layout.name, "account", None, ("package",))],
                    )
                ],
            )


def uses_of(layout: AccountLayout) -> list[AllowanceUse]:
    """Every allowance of the account's package with what is used of it."""
    package = layout.plan.packages.get(layout.account.settings.package or "")
    return [use for key in Package.__struct_fields__ if package and (use := _use(layout, package, key)) is not None]


def use_of(layout: AccountLayout, key: str) -> AllowanceUse | None:
    """What is used of one allowance of the account's package; None where it has none, or that is not known."""
    package = layout.plan.packages.get(layout.account.settings.package or "")
    return _use(layout, package, key) if package is not None else None


def _use(layout: AccountLayout, package: Package, key: str) -> AllowanceUse | None:
    allowed = getattr(package, key)
    if allowed is None or key not in NAMES:
        return None
    account = layout.account
    if key in _KINDS:
        kin = [domain for domain in account.domains if domain.kind == _KINDS[key] and domain.state != "retired"]
        kin.sort(key=lambda domain: domain.state == "planned")
        planned = sum(domain.state == "planned" for domain in kin)
        return AllowanceUse(key, NAMES[key], allowed, len(kin) - planned, planned, list(kin))
    standing = [installation for installation in account.installations if installation.state != "retired"]
    standing.sort(key=lambda installation: installation.state == "planned")
    bases: dict[tuple[str, str], int] = {}
    if key == "databases":
        bases = {
            (server_key(installation.database.server), installation.database.name): installation.number
            for installation in reversed(standing)
            if installation.database is not None
        }
        first = frozenset(bases.values())
        standing = [installation for installation in standing if installation.number in first]
    if key in ("databases", "installations"):
        live = sum(installation.state == "live" for installation in standing)
        more = _unplanned(layout, bases) if key == "databases" else 0
        if more:
            planned = len(standing) - live
            return AllowanceUse(key, NAMES[key], allowed, live + more, planned, list(standing), unplanned=more)
        return AllowanceUse(key, NAMES[key], allowed, live, len(standing) - live, list(standing))
    if layout.survey is None:
        return None
    aside = [found for found in layout.survey.folders if is_in(found.folder, SET_ASIDE)]
    if key == "files":
        return AllowanceUse(key, NAMES[key], allowed, layout.survey.files, 0, [], sum(found.files for found in aside))
    megabytes = [-(-size // 1_000_000) for size in (layout.survey.bytes, sum(found.bytes for found in aside))]
    return AllowanceUse(key, NAMES[key], allowed, megabytes[0], 0, [], megabytes[1])


def _unplanned(layout: AccountLayout, bases: Collection[tuple[str, str]]) -> int:
    """How many databases the server has that no installation of the plan names."""
    seen = layout.databases
    named = [name for host, name in bases if not host]
    known = {name.lower() for name in named} if seen is not None and seen.server == "postgresql" else set(named)
    return sum(base.name not in known for base in seen.databases) if seen is not None else 0


def _count(use: AllowanceUse) -> Words:
    if use.planned and not use.live:
        return say("count/planned-only", planned=use.planned, use=use.name)
    if use.aside:
        return say("count/them-set-aside", live=use.live, use=use.name, aside=use.aside)
    if use.unplanned:
        told = say("count/plan") if use.live == 1 else say("count/them-plan", unplanned=use.unplanned)
        return say(
            "count/there",
            live=use.live,
            told=told,
            planned=say("count/and-planned", planned=use.planned) if use.planned else None,
        )
    live = "live " if use.planned or use.key in ("databases", "installations") else ""
    planned = say("count/live-and-planned", planned=use.planned) if use.planned else ""
    return say("count/all", live=use.live, is_live=bool(live), planned=planned, use=use.name)


def _larger(layout: AccountLayout, uses: list[AllowanceUse]) -> list[WayOut]:
    """The smallest package in which everything fits."""
    mine = layout.plan.packages[layout.account.settings.package or ""]
    needed = {use.key: use.total for use in uses}
    fitting = [
        name
        for name, package in layout.plan.packages.items()
        if (package.root_installations or not mine.root_installations)
        and all(use is None or use.total <= use.allowed for key in Package.__struct_fields__
                for use in [_use(layout, package, key)])
    ]  # fmt: skip
    fitting.sort(key=lambda name: [getattr(layout.plan.packages[name], key) or 10**12 for key in needed])
    return [
        WayOut(say("larger/take-package-all", name=name), [Change(layout.name, "account", None, {"package": name})])
        for name in fitting[:MANY][:1]
    ]


def _account_party(layout: AccountLayout) -> Party:
    source = layout.account.source
    line = source.line(("account", "package"))
    return Party("account", layout.name, None, source.name, line)


def _record_party(layout: AccountLayout, record: Record) -> Party:
    if isinstance(record, Installation):
        return installation_party(layout.account, record)
    return domain_party(layout.account, record) if isinstance(record, Domain) else _account_party(layout)
