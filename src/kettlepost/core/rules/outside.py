"""Rules about what was seen of an account outside of its folders."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import suppress

from kettlepost.core.layout import AccountLayout, Mount, bare_and_www, stands_for
from kettlepost.core.messages import say
from kettlepost.core.names import Address, Folder, HostName, InvalidName, readable
from kettlepost.core.remedies import Action, Remedy
from kettlepost.core.rules.findings import Finding, Party, WayOut
from kettlepost.core.rules.parties import domain_party
from kettlepost.core.rules.registry import RuleReach, account_rule
from kettlepost.core.rules.ways_out import setting
from kettlepost.core.steps import ChangeRoot, Decide, Question, ReadIn, RemoveHost, Step
from kettlepost.core.survey import ObservedHost


@account_rule("server-differs", "risk", "note", reaches=RuleReach.HOST)
def server_differs(layout: AccountLayout) -> Iterator[Finding]:
    """A server has a host otherwise than the plan says it is today.

    Somebody changed it at the host, or wrote it down wrongly. Whatever rests on the plan, what is
    deployed where and what may be removed, then rests on a folder that nobody sees. A domain that is
    planned, and that the server has already, is told as well.

    Bad:

        [[domain]]
        name = "millbrookrail.example"
        kind = "primary"
        root = "www"

        # seen: millbrookrail.example = "public"

    Good:

        [[domain]]
        name = "millbrookrail.example"
        kind = "primary"
        root = "www"

        # seen: millbrookrail.example = "www"

    Ways out:

    - where the server is right, write down what it has;
    - where the plan is right, change it at the host, and read the server in again.
    """
    outside = layout.outside
    hosts = layout.tree("now").hosts if outside is not None else {}
    for seen in outside.hosts if outside is not None else ():
        mount = next((one for one in hosts.get(HostName(seen.host), ()) if not one.address.path), None)
        planned = _leads(mount)
        really = f"-> {seen.sends_to}" if seen.sends_to else seen.root
        if mount is None and not _is_known(layout, seen.host):
            yield _unknown(layout, seen)
        elif mount is None:
            yield from _planned(layout, seen)
        if mount is None or _is_as_planned(layout, mount, seen) or _has_moved(layout, seen):
            continue
        yield Finding(
            at=seen.host,
            title=say("server-differs/title", seen=readable(seen.host), really=really, planned=planned or "nothing"),
            why=say("server-differs/why"),
            parties=[domain_party(layout.account, mount.domain), Party("seen", really, found=seen.source)],
            ways_out=list(_ways(layout, mount, seen, planned)),
        )


def _planned(layout: AccountLayout, seen: ObservedHost) -> Iterator[Finding]:
    """A domain that is still to be added by the plan, and that the server has."""
    domain = layout.account.named.get(HostName(seen.host))
    if domain is None or domain.state != "planned":
        return
    leads = f"-> {seen.sends_to}" if seen.sends_to else seen.root
    yield Finding(
        at=seen.host,
        title=say("planned/title", seen=readable(seen.host), leads=leads),
        why=say("planned/why"),
        parties=[domain_party(layout.account, domain, "state"), Party("seen", leads, found=seen.source)],
        ways_out=[
            WayOut(say("planned/write-state-live"), [setting(layout, domain, state="live")], as_it_is=True),
        ],
        severity="note",
    )


def _is_known(layout: AccountLayout, host: str) -> bool:
    """Whether a host of the account, its other form with or without www, or a wildcard stands for a name."""
    names = (HostName(host), *bare_and_www(HostName(host)))
    return any(layout.tree(when).hosts.serving(name) for when in ("now", "planned") for name in names)


def _unknown(layout: AccountLayout, seen: ObservedHost) -> Finding:
    leads = f"-> {seen.sends_to}" if seen.sends_to else seen.root
    source = seen.source.rpartition(":")[0] or seen.source
    return Finding(
        at=seen.host,
        title=say("unknown/title", seen=readable(seen.host), layout=layout.name),
        why=say("unknown/why"),
        parties=[Party("seen", leads, found=seen.source)],
        ways_out=[
            WayOut(say("unknown/read"), remedy=Remedy.of(Action.READ_IN, source), steps=[ReadIn(layout.name, source)]),
            WayOut(
                say("unknown/take-off", seen=readable(seen.host)),
                remedy=Remedy.of(Action.READ_IN, source),
                steps=[RemoveHost(layout.name, HostName(seen.host)), ReadIn(layout.name, source)],
            ),
        ],
    )


def _leads(mount: Mount | None) -> str:
    if mount is None:
        return ""
    return f"-> {mount.goes}" if mount.goes is not None else mount.way.shown if mount.way is not None else ""


def _is_as_planned(layout: AccountLayout, mount: Mount, seen: ObservedHost) -> bool:
    if seen.sends_to:
        return mount.goes is not None and str(mount.goes) == seen.sends_to
    try:
        folder = Folder.parse(seen.root)
    except InvalidName:
        return False
    return mount.goes is None and (folder == mount.way or layout.real(folder) == mount.folder)


def _has_moved(layout: AccountLayout, seen: ObservedHost) -> bool:
    """Whether the server leads a host to where its domain is to move, and files are there: `confirm` comes next."""
    later = next((one for one in layout.hosts.get(HostName(seen.host), ()) if not one.address.path), None)
    domain = stands_for(layout.account, later.domain) if later is not None else None
    if later is None or later.folder is None or domain is None or domain.root_now is None or layout.contents is None:
        return False
    return _is_as_planned(layout, later, seen) and not layout.contents.is_empty(later.folder)


def _ways(layout: AccountLayout, mount: Mount, seen: ObservedHost, planned: str) -> Iterator[WayOut]:
    own = mount.domain.name == seen.host and mount.domain.kind not in ("alias", "temporary")
    if own and seen.root and mount.domain.redirect_to is None:
        key = "root_now" if mount.domain.root_now is not None else "root"
        words = say("ways/server-right-root", key=key, root=seen.root)
        yield WayOut(words, [setting(layout, mount.domain, **{key: seen.root})], as_it_is=True)
    elif own and seen.sends_to and mount.domain.redirect_to is not None:
        target = str(Address.parse(seen.sends_to)).removesuffix("/")
        words = say("ways/server-right-redirect", target=target)
        yield WayOut(words, [setting(layout, mount.domain, redirect_to=target)], as_it_is=True)
    source = seen.source.rpartition(":")[0] or seen.source
    led: Step = Decide(layout.name, Question.WHAT_IS_RIGHT, (seen.host,))
    with suppress(InvalidName):
        if mount.way is not None and seen.root:
            led = ChangeRoot(layout.name, mount.domain.name, Folder.parse(seen.root), mount.way)
    yield WayOut(
        say("ways/plan-right-host", seen=readable(seen.host), planned=planned),
        remedy=Remedy.of(Action.READ_IN, source),
        steps=[led, ReadIn(layout.name, source)],
    )
