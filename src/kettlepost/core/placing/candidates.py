"""The places where an application could go, each as the tables it would bring into the plan."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from typing import Literal

import msgspec
from msgspec import Struct

from kettlepost.core.errors import InputError
from kettlepost.core.layout import AccountLayout, stands_for
from kettlepost.core.messages import Hint, say
from kettlepost.core.names import Address, Folder, HostName, InvalidName, did_you_mean, quoted
from kettlepost.core.placing.defaults import free_host, names_for, with_defaults
from kettlepost.core.placing.ownership import account_of, new_domain, owner_of, usual_www
from kettlepost.core.plan import Account, Application, Domain, Installation, State, Www
from kettlepost.core.remedies import Action, Remedy
from kettlepost.core.rules.allowances import use_of
from kettlepost.core.rules.ways_out import free_below, free_root, host_domain
from kettlepost.core.trying import Addition, Scenario
from kettlepost.core.words import listed

PlacementKind = Literal["root", "front file", "subfolder", "subdomain", "domain", "empty domain", "other account"]
PREFERRED: dict[str, tuple[PlacementKind, ...]] = {
    "root": ("root", "front file"),
    "subfolder": ("subfolder",),
    "subdomain": ("subdomain",),
    "domain": ("domain", "empty domain", "other account"),
}
"""The kinds of place that each preference is for."""
MOST = 6
"""How many empty domains, and how many other accounts, are weighed."""
MANY_SITES = 200
"""How many domains of a client on one account are looked at."""
_LABEL = 50
"""A label that is chosen is no longer, so that a number and what hosts put before it find room (RFC 1035: 63)."""
_NEEDED = ("addon_domains", "installations", "databases")


class Wish(Struct):
    """What somebody wants: an application for a domain, and what they already know of the place.

    Without a domain it is for a `client`, on whichever account and domain of theirs suits best. Findings of the rules
    in `despite` are lived with, `because` says why.
    """

    application: str
    domain: str = ""
    name: str | None = None
    prefer: str | None = None
    new_domain: str | None = None
    account: str | None = None
    any_account: bool = False
    other_domains: bool = False
    client: str | None = None
    despite: tuple[str, ...] = ()
    because: str | None = None


class Placement(Struct):
    """One place: its kind, the address and folder, and what it would bring into the plan."""

    kind: PlacementKind
    account: str
    address: Address
    folder: Folder
    addition: Addition

    @property
    def installation(self) -> Installation:
        return self.addition.installations[0]


class Candidates(Struct):
    """Every sensible place for a wish; `more` says in words what else there is to know, such as what was left out.

    `compared` are the accounts of a client, whether there is a place or not.
    """

    application: Application
    account: str
    domain: str
    places: list[Placement]
    more: list[Hint]
    compared: list[str] = []


def candidates_for(scenario: Scenario, wish: Wish) -> Candidates:
    """The places for a wish. Raises InputError for what is unknown, naming the nearest."""
    application = known_application(scenario, wish.application)
    if wish.client is not None:
        return _for_client(scenario, wish, application, wish.client)
    account, host, name = _whereabouts(scenario, wish)
    layout = scenario.layout(account)
    found = _Finder(scenario, layout, application, host, name)
    places = [*found.on_domain(), *found.subdomains()]
    more: list[Hint] = []
    if wish.new_domain is not None:
        places.append(found.as_domain(layout, _new_domain(scenario, wish.new_domain), "domain"))
    listed = {place.address.host for place in places}
    empty = [domain for domain in found.empty_domains() if domain.name not in listed] if wish.other_domains else []
    places += [found.in_domain(domain) for domain in empty[:MOST]]
    if len(empty) > MOST:
        more.append(Hint(say("candidates-for/more-empty-domains", empty=len(empty) - MOST, account=account)))
    if wish.any_account:
        others = _with_room(scenario, {account})
        new = HostName.parse(wish.new_domain or free_host(host, found.names, scenario.owners))
        places += [found.as_domain(scenario.layout(other), new, "other account") for other in others[:MOST]]
        more += _left_out(others)
    if layout.contents is None:
        words = say("candidates-for/lies-folders-unknown", account=account)
        more.append(Hint(words, (layout.surveying,)))
    return Candidates(application, account, host, places, more)


def placement_at(
    scenario: Scenario,
    application: Application,
    address: Address,
    account: str | None,
    root: Folder | None,
    folder: Folder | None,
    www: Www | None = None,
    **given: object,
) -> Placement:
    """The place at an address that was spelled out, with a domain for it where there is none yet.

    `given` is as for `with_defaults`. Raises InputError when it cannot be told which account it goes to.
    """
    host = address.host
    layout, is_there = account_of(scenario, host, account)
    installation = with_defaults(layout, application, address, folder=folder, **given)
    if is_there:
        _only_for_new(host, root, www)
        lies = folder or layout.reach(address) or Folder("")
        return Placement(
            "subfolder" if address.path else "root",
            layout.name,
            address,
            lies,
            Addition(layout.name, [], [installation]),
        )
    state: State = "live" if installation.state == "live" else "planned"
    domain = new_domain(scenario, layout, host, root=root, state=state, www=www)
    lies = folder or (domain.root or Folder("")).below(address.path)
    kind: PlacementKind = "subdomain" if domain.kind == "subdomain" else "domain"
    return Placement(kind, layout.name, address, lies, Addition(layout.name, [domain], [installation]))


def with_values(
    scenario: Scenario,
    place: Placement,
    root: Folder | None,
    folder: Folder | None,
    www: Www | None = None,
    **given: object,
) -> Placement:
    """A place of a weighing with the values that were given for it.

    Raises InputError for what goes with a new domain where none is new.
    """
    layout, old = scenario.layout(place.account), place.installation
    domains = place.addition.domains
    if not domains:
        _only_for_new(place.address.host, root, www)
    else:
        new = domains[0]
        domains = [msgspec.structs.replace(new, root=root or new.root, www=www or new.www)]
    application = scenario.plan.applications[old.application]
    installation = with_defaults(layout, application, place.address, folder=folder or old.folder, **given)
    lies = folder or root or place.folder
    return msgspec.structs.replace(place, folder=lies, addition=Addition(layout.name, domains, [installation]))


def _only_for_new(host: HostName, root: Folder | None, www: Www | None) -> None:
    """Raise InputError for what is only for a domain that is new."""
    if root is not None:
        raise InputError(f"a root goes with a new domain; {host} leads to a folder already", Remedy(Action.GIVE_FOLDER))
    if www is not None:
        raise InputError(f"{host} is declared already", Remedy.of(Action.SET_WWW, str(www), str(host)))


def known_application(scenario: Scenario, name: str) -> Application:
    """An application by its id. Raises InputError that names the nearest."""
    return scenario.plan.application(name)


def _whereabouts(scenario: Scenario, wish: Wish) -> tuple[str, HostName, str | None]:
    try:
        asked = Address.parse(wish.domain)
        name = Address.parse(f"x.test/{wish.name}").path if wish.name is not None else asked.path
    except InvalidName as error:
        raise InputError(str(error)) from None
    if wish.name is not None and not name:
        raise InputError(f"name {quoted(wish.name)} is empty; give one such as shop, or leave it out")
    account = owner_of(scenario, asked.host, wish.account, is_wish=True)
    layout = scenario.layout(account)
    mount = layout.hosts.mount(Address(asked.host))
    domain = stands_for(layout.account, mount.domain) if mount is not None else None
    if domain is None or domain.redirect_to is not None:
        goes = f" and sends visitors to {domain.redirect_to}" if domain is not None else ""
        raise InputError(f"{asked.host} leads to no folder of {account}{goes}; name a domain with a root")
    own = asked.host if domain.www == "apart" or asked.host in domain.also else domain.name
    return account, own, name or None


def _new_domain(scenario: Scenario, written: str) -> HostName:
    try:
        host = HostName.parse(written)
    except InvalidName as error:
        raise InputError(str(error)) from None
    if scenario.owners(host):
        raise InputError(f"{host} is a domain of account {scenario.owners(host)[0]} already")
    return host


def _with_room(scenario: Scenario, apart: Collection[str]) -> list[str]:
    """The other accounts with room for one more domain and installation, those with most room first."""
    found: list[tuple[float, str]] = []
    for name in scenario.summaries:
        if name not in apart:
            uses = [use for key in _NEEDED if (use := use_of(scenario.declared(name), key)) is not None]
            if all(use.total < use.allowed for use in uses):
                found.append((max((use.total / use.allowed for use in uses), default=0.0), name))
    return [name for _, name in sorted(found)]


def _left_out(others: Sequence[str]) -> list[Hint]:
    if not others:
        return [Hint(say("left-out/other-account-room"))]
    if len(others) > MOST:
        return [Hint(say("left-out/these-other-accounts", most=MOST, others=len(others) - MOST))]
    return []


def _for_client(scenario: Scenario, wish: Wish, application: Application, client: str) -> Candidates:
    """The places on the domains of a client, on each of the accounts that have some, or that are theirs.

    Raises InputError where nobody is called so, naming the nearest.
    """
    asked = client.casefold()
    own: dict[str, list[Domain]] = {}
    clients: dict[str, str] = {}
    for name in scenario.summaries:
        account = scenario.declared(name).account
        theirs = [domain for domain in account.domains if _client_of(account, domain).casefold() == asked]
        for known in filter(None, [account.settings.client, *(domain.client for domain in account.domains)]):
            clients.setdefault(known.casefold(), known)
        if theirs or (account.settings.client or "").casefold() == asked:
            own[name] = theirs
    if not own:
        names = [clients[key] for key in sorted(clients)]
        near = did_you_mean(client, names) or (f"; clients are {listed(names, 8)}" if names else "")
        raise InputError(f"nobody in the plan is the client {quoted(client)}{near}")
    new = _new_domain(scenario, wish.new_domain) if wish.new_domain is not None else None
    places: list[Placement] = []
    more: list[Hint] = []
    for name, domains in own.items():
        layout = scenario.layout(name)
        places += _on_account(scenario, layout, application, domains, wish.name, new)
    unknown = [name for name in own if scenario.layout(name).contents is None]
    if unknown:
        words = say("for-client/lies-folders-unknown", unknown=unknown)
        more.append(Hint(words, (scenario.layout(unknown[0]).surveying,)))
    if wish.any_account and new is not None:
        others = _with_room(scenario, own)
        for other in others[:MOST]:
            finder = _Finder(scenario, scenario.layout(other), application, new, wish.name)
            places.append(finder.as_domain(scenario.layout(other), new, "other account"))
        more += _left_out(others)
    elif wish.any_account:
        more.append(Hint(say("for-client/weigh-other-accounts")))
    return Candidates(application, "", client, places, more, list(own))


def _on_account(
    scenario: Scenario, layout: AccountLayout, application: Application, domains: Sequence[Domain], name: str | None,
    new: HostName | None,
) -> Iterator[Placement]:  # fmt: skip
    """Places on one account's `domains`: those at which nothing is, else on the first; and at a new domain."""
    named = [one for one in domains if one.claims_root and one.name[0] != "*" and not one.path]
    sites = sorted((one for one in named if one.state != "retired"), key=lambda one: one.kind != "primary")
    finders = [_Finder(scenario, layout, application, one.name, name) for one in sites[:MANY_SITES]]
    empty = [(finder, one) for finder, one in zip(finders, sites, strict=False) if finder.is_empty(one, by_plan=True)]
    for finder, one in empty[:MOST]:
        yield finder.in_domain(one)
    if not empty and finders:
        yield from finders[0].on_domain()
        yield from finders[0].subdomains()
    if new is not None:
        yield _Finder(scenario, layout, application, new, name).as_domain(layout, new, "domain")


def _client_of(account: Account, domain: Domain) -> str:
    return domain.client or account.settings.client or ""


class _Finder:
    """Makes places for one application at one domain."""

    def __init__(
        self, scenario: Scenario, layout: AccountLayout, application: Application, host: HostName, name: str | None
    ):
        self._scenario = scenario
        self._layout = layout
        self._application = application
        self._host = host
        self._asked = name is not None
        self.names = names_for(application, name)

    def on_domain(self) -> Iterator[Placement]:
        """The domain's root, a subfolder, and the root by way of a front file."""
        layout, base = self._layout, Address(self._host)
        if layout.reach(base) is None:
            return
        yield self._existing("root", base)
        below = (
            base.below(self.names[0]) if self._asked else next(iter(free_below(layout, base, self.names) or ()), None)
        )
        if isinstance(below, Address):
            yield self._existing("subfolder", below)
            folder = layout.reach(below)
            if self._application.front_file is not None and folder:
                yield self._existing("front file", base, folder)

    def subdomains(self) -> Iterator[Placement]:
        domain = host_domain(self._layout, Address(self._host))
        if domain is not None and not any("/" in name for name in self.names):
            labels = [name.lower().replace("_", "-") for name in self.names]
            if self._asked:
                try:
                    host = HostName.parse(f"{labels[0]}.{domain}")
                except InvalidName:
                    return  # a folder may be called so, a host name not
                if self._scenario.owners(host):
                    if self._layout.name in self._scenario.owners(host):
                        yield self._existing("subdomain", Address(host))
                    return
            else:
                host = free_host(domain, [label[:_LABEL].rstrip("-") for label in labels], self._scenario.owners)
            yield self._new(self._layout, "subdomain", "subdomain", host)

    def as_domain(self, layout: AccountLayout, host: HostName, kind: PlacementKind) -> Placement:
        return self._new(layout, kind, "addon", host)

    def in_domain(self, domain: Domain) -> Placement:
        return self._existing("empty domain", Address(domain.name))

    def empty_domains(self) -> Iterator[Domain]:
        """The account's other domains at which nothing is, the nearest first."""
        layout = self._layout
        empty = [
            domain
            for domains in layout.roots.values()
            for domain in domains[:1]
            if domain.name != self._host and self.is_empty(domain) and self._is_same_client(domain)
        ]
        yield from sorted(empty, key=lambda domain: (not domain.name.endswith(f".{self._host}"), domain.name))

    def _is_same_client(self, domain: Domain) -> bool:
        """Whether a domain belongs to whoever the wish is for."""
        mount = self._layout.hosts.mount(Address(self._host))
        account = self._layout.account
        own = _client_of(account, mount.domain) if mount is not None else account.settings.client or ""
        return _client_of(account, domain) == own

    def is_empty(self, domain: Domain, by_plan: bool = False) -> bool:
        """Whether nothing is at a domain and around its root; `by_plan` alone where no survey tells."""
        layout, contents = self._layout, self._layout.contents
        root = layout.real(domain.root or Folder(""))
        if not root or domain.name[0] == "*" or layout.placed.get(root) or len(layout.roots[root]) > 1:
            return False
        if layout.claimed_inside(root) or any(
            above in layout.roots or above in layout.placed for above in root.above()
        ):
            return False
        if domain.root_now is not None:
            return False
        if contents is None:
            return by_plan
        there = contents.folders.get(root)
        only = len(contents.placeholders(root)) + (len(there.control) if there is not None else 0)
        return root not in contents.applications and contents.totals(root).files <= only

    def _existing(self, kind: PlacementKind, address: Address, folder: Folder | None = None) -> Placement:
        """A place at an address that leads to a folder already; `folder` is where the files go instead."""
        layout = self._layout
        installation = with_defaults(layout, self._application, address, folder=folder)
        lies = folder if folder is not None else layout.reach(address)
        return Placement(kind, layout.name, address, lies or Folder(""), Addition(layout.name, [], [installation]))

    def _new(
        self, layout: AccountLayout, kind: PlacementKind, declared: Literal["addon", "subdomain"], host: HostName
    ) -> Placement:
        """A place at a domain that is still to be declared."""
        root = free_root(layout, host)
        primary = layout.account.primary
        www = usual_www(self._scenario, host, declared)
        domain = Domain(host, declared, root, "planned", www=www, https=primary is not None and primary.https)
        installation = with_defaults(layout, self._application, Address(host))
        return Placement(kind, layout.name, Address(host), root, Addition(layout.name, [domain], [installation]))
