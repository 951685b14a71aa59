"""The life of what is planned, from wish to end: confirmed once it is there, forgotten once it is gone."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import NamedTuple

from kettlepost.core.errors import InputError
from kettlepost.core.layout import (
    CERTIFICATES,
    GONE_ALONG,
    AccountLayout,
    dependents_of,
    files_left,
    has_moved,
    has_relocated,
    lay_there_before,
    own_tables,
)
from kettlepost.core.messages import Hint, MessageError, Words, joined, say, series
from kettlepost.core.names import Address, Folder, did_you_mean, printable
from kettlepost.core.placing.proposals import Proposal
from kettlepost.core.plan import Change, Domain, Installation
from kettlepost.core.remedies import Action, Remedy
from kettlepost.core.rules.bringing import comes_with
from kettlepost.core.rules.going_live import going_live, gone_live, has_gone_live
from kettlepost.core.rules.parties import application_words, at_its_address
from kettlepost.core.rules.paths import canonical
from kettlepost.core.rules.relocation import settling
from kettlepost.core.rules.removal import left_by, mixed_with, remaining_words, removal
from kettlepost.core.rules.transitions import confirmed, is_gone, tables_left, unsure_tables
from kettlepost.core.rules.ways_out import clearing_folder, dropping, setting
from kettlepost.core.survey import SeenPage, ShownKind, is_in, page_words
from kettlepost.core.words import counted, listed


def confirm(layout: AccountLayout, address: Address | None = None, is_host: bool = False) -> Proposal:
    """Make planned things live as they were found: of a whole account what is clear, else all at an address.

    At an address without a path these are the domain, a root that has moved, and the installations
    of that host. Raises InputError for what differs or is not there, naming it: at the address itself, or where
    `is_host` says that a host was named, of the domain. What is not there yet beside that is told to be left.
    """
    if layout.contents is None:
        raise InputError(f"{layout.name} was not surveyed yet", layout.surveying)
    asked = [*_installations_asked(layout, address, is_host), *_domains_asked(layout, address)]
    asked += [*_moves_asked(layout, address, is_host), *_going_live_asked(layout, address, is_host)]
    refused = [one for one in asked if one.change is None]
    changes = tuple(one.change for one in asked if one.change is not None)
    if any(one.is_meant for one in refused) or (address is not None and refused and not changes):
        raise MessageError("not as it was planned", say("confirm/refused", refused=(one.words for one in refused)))
    if address is not None and not changes:
        raise InputError(f"nothing is planned at {address}{_near(layout, address)}")
    told = [one.words for one in asked if one.change is not None] + [
        say("confirm/left", one=one.words) for one in refused
    ]
    asks = [hint for one in asked if one.change is not None for hint in one.asks]
    return Proposal(layout.name, changes, (*map(Hint, told or [say("confirm/everything-planned-live")]), *asks[:3]))


class _Confirmation(NamedTuple):
    """Something planned, with the change that makes it live, or None and why not; whether it is what was named.

    `asks` is what nobody has looked at from outside yet.
    """

    words: Words
    change: Change | None
    is_meant: bool = False
    asks: Sequence[Hint] = ()


def _installations_asked(layout: AccountLayout, address: Address | None, is_host: bool) -> Iterator[_Confirmation]:
    """The planned installations at an address, or all of them."""
    for installation in layout.account.installations:
        if installation.state != "planned" or not _is_at(layout, installation, address):
            continue
        what, why_not = at_its_address(installation), _not_as_planned(layout, installation)
        if why_not:
            is_meant = address is not None and not is_host and installation.address.path == address.path
            yield _Confirmation(joined(what, ": ", why_not), None, is_meant)
        else:
            there = confirmed(layout, layout.deployed[installation.number])
            yield _Confirmation(
                say("installations-asked/live", what=what), there, asks=tuple(_to_ask(layout, installation))
            )


def _moves_asked(layout: AccountLayout, address: Address | None, is_host: bool) -> Iterator[_Confirmation]:
    """The installations that are to move, of which one is named or all are asked."""
    for installation in layout.moving:
        if not _is_at(layout, installation, address):
            continue
        what, is_meant = at_its_address(installation), address is not None and not is_host
        new, old = layout.folder_of(installation), layout.comes_from(installation)
        stays = new == old and layout.reach(installation.address) == new  # no look at files tells of the address alone
        if has_relocated(layout, installation) or (stays and is_meant):
            asks = tuple(_to_ask(layout, installation))
            yield _Confirmation(say("moves-asked/moved", what=what), settling(layout, installation), asks=asks)
            continue
        lies, lay = (folder.shown if folder is not None else "" for folder in (new, old))
        not_seen = say("not-moved/survey-does-show", old=lay, new=lies)
        why_not = say("moves-asked/stays", new=lies) if new == old else not_seen
        is_named = is_meant and address is not None and installation.address.path == address.path
        yield _Confirmation(joined(what, ": ", why_not), None, is_named)


def _going_live_asked(layout: AccountLayout, address: Address | None, is_host: bool) -> Iterator[_Confirmation]:
    """The rehearsals that are to take the place of what they rehearse, of which one is named or all are asked."""
    for rehearsal in layout.to_go_live:
        going = going_live(layout, rehearsal)
        if going is None or not any(_is_at(layout, one, address) for one in (going.live, rehearsal)):
            continue
        what, is_meant = at_its_address(going.live), address is not None and not is_host
        if has_gone_live(layout, going):
            changes = gone_live(layout, going)
            told = say("going-live-asked/live", what=what, old=rehearsal.address)
            yield _Confirmation(told, changes[0], asks=tuple(_to_ask(layout, going.live)))
            told = say("going-live-asked/retired", what=at_its_address(rehearsal), base=printable(going.old.name))
            yield _Confirmation(told, changes[1])
        else:
            why_not = say("going-live-asked/not-yet", folder=going.to.shown, base=printable(going.new.name))
            yield _Confirmation(joined(what, ": ", why_not), None, is_meant)


_LIVE = {"state": "live", "account_now": None}


def _domains_asked(layout: AccountLayout, address: Address | None) -> Iterator[_Confirmation]:
    """The planned domains, and those whose root is to move, of which one is named or all are asked."""
    for domain in layout.account.domains:
        is_named = address is not None and domain.name == address.host and not address.path
        if not is_named and address is not None:
            continue
        if comes_with(layout, domain) is not None:
            continue  # with what it stands for
        moves = domain.root_now is not None and domain.claims_root and domain.state == "live"
        if domain.state == "planned":
            why_not, done = _not_there(layout, domain, is_named), setting(layout, domain, **_LIVE)
        elif moves:
            is_said = is_named and (_has_no_files(layout, domain) or lay_there_before(layout, domain))
            has_come = has_moved(layout, domain) or is_said
            why_not, done = None if has_come else _not_moved(domain), setting(layout, domain, root_now=None)
        else:
            continue
        if why_not:
            yield _Confirmation(joined(domain.name, ": ", why_not), None, is_named)
        else:
            yield _Confirmation(f"{'moved' if moves else 'live'}: {domain.name}", done)


def forget(layout: AccountLayout, address: Address, is_elsewhere: bool = False) -> Proposal:
    """Take the entry of a retired installation or domain out; `is_elsewhere` says that another account has the domain.

    Raises InputError while anything of it is left, or anything leads there, naming that.
    """
    key = canonical(layout, address)
    gone = [
        installation
        for installation in layout.account.installations
        if installation.state == "retired" and canonical(layout, installation.address) == key
    ]
    domain = next(
        (entry for entry in layout.account.domains if entry.state == "retired" and entry.name == address.host), None
    )
    if address.path or (gone and domain is None):
        if not gone:
            raise InputError(_nothing_retired(layout, address))
        return _forget_installations(layout, gone)
    if domain is None:
        raise InputError(_nothing_retired(layout, address))
    return _forget_domain(layout, domain, gone, is_elsewhere)


def _is_at(layout: AccountLayout, installation: Installation, address: Address | None) -> bool:
    if address is None:
        return True
    if not address.path:
        return installation.address.host == address.host
    return canonical(layout, installation.address) == canonical(layout, address)


def _not_as_planned(layout: AccountLayout, installation: Installation) -> Words | None:
    """Why a planned installation cannot be made live; None where it can."""
    there = layout.deployed.get(installation.number)
    if there is not None:
        otherwise = series(deviation.words for deviation in there.deviations) if there.deviations else None
        return otherwise or _shown_otherwise(layout, installation)
    folder, contents = layout.folder_of(installation), layout.contents
    if folder is None:
        return say("not-as-planned/address-leads-folder")
    found = contents.applications.get(folder) if contents is not None else None
    if found is None:
        return say("not-as-planned/found", folder=folder.shown)
    if found.application != installation.application or found.condition:
        return say("not-as-planned/holds", folder=folder.shown, application=application_words(layout, found))
    return say("not-as-planned/may-hold-older", folder=folder.shown)


def _shown_otherwise(layout: AccountLayout, installation: Installation) -> Words | None:
    """What the address of an installation was seen to show since the survey, where that is not the installation."""
    seen = _seen_since(layout, installation)
    if seen is None or seen.status in (None, 401, 403):  # what is shut to a stranger may be there
        return None
    is_of_others = seen.kind is ShownKind.APPLICATION and seen.what != installation.application
    if not is_of_others and seen.kind not in _NOT_LIVE and not _is_elsewhere(layout, installation, seen):
        return None
    return say("not-as-planned/shows", url=seen.url, seen=page_words(seen, layout.plan.titles), day=seen.seen[:10])


_NOT_LIVE = (ShownKind.PLACEHOLDER, ShownKind.INSTALLER, ShownKind.ERROR, ShownKind.MAINTENANCE, ShownKind.LISTING)
"""What an application that is live does not show at its address."""


def _is_elsewhere(layout: AccountLayout, installation: Installation, seen: SeenPage) -> bool:
    """Whether a page is, to the byte, one that lies outside the folder of an installation."""
    folder = layout.folder_of(installation)
    return bool(seen.shows) and folder is not None and not is_in(Folder(seen.shows), folder)


def _seen_since(layout: AccountLayout, installation: Installation) -> SeenPage | None:
    """What its address was seen to show since the account was surveyed, as before that it may have been otherwise."""
    seen, survey, folder = layout.seen_page(installation.address), layout.survey, layout.lies_now(installation)
    if seen is None or survey is None:
        return None
    later = [part.taken for part in survey.later if folder is not None and is_in(folder, part.folder)]
    return seen if seen.seen >= max(later, default=survey.taken) else None


def _to_ask(layout: AccountLayout, installation: Installation) -> list[Hint]:
    """Where the world is asked about an account: that this was not since it was surveyed."""
    if layout.world is None or _seen_since(layout, installation) is not None:
        return []
    return [Hint(say("lifecycle/not-asked"), (Remedy.of(Action.PROBE, str(installation.address)),))]


def _not_there(layout: AccountLayout, domain: Domain, is_named: bool) -> Words | None:
    """Why a planned domain cannot be made live; None where it can."""
    contents = layout.contents
    if domain.account_now is not None:
        waits = [one.address for one in layout.installations_of.get(domain.number, ()) if _is_to_come(layout, one)]
        if waits:
            return say("bring/waits-for", what=waits)
    if not layout.points_here(domain):
        seen = layout.seen_pointing(domain.name)
        told = say("not-there/seen-elsewhere", day=seen[1][:10]) if seen is not None else None
        return told or say("not-there/does-point-here")
    if not domain.claims_root or domain.root is None:
        return None if is_named else say("not-there/folder-could-seen")
    if contents is None or not contents.exists(layout.real(domain.root)):
        return say("not-there/root-found", root=domain.root.shown)
    return None


def _is_to_come(layout: AccountLayout, installation: Installation) -> bool:
    return installation.state == "planned" and _not_as_planned(layout, installation) is not None


def _has_no_files(layout: AccountLayout, domain: Domain) -> bool:
    """Whether nothing is to move with a domain: nothing lies in its old root, and the new one is there."""
    contents, old, new = layout.contents, domain.root_now, domain.root
    if contents is None or old is None or new is None:
        return False
    return not files_left(layout, layout.real(old)) and contents.exists(layout.real(new))


def _not_moved(domain: Domain) -> Words:
    new, old = (folder.shown if folder is not None else "" for folder in (domain.root, domain.root_now))
    return say("not-moved/survey-does-show", old=old, new=new)


def _nothing_retired(layout: AccountLayout, address: Address) -> str:
    there = [entry for entry in layout.account.installations if entry.address == address]
    if there:
        return f"{there[0].application} at {address} is {there[0].state}; retire it first"
    return f"nothing is retired at {address}{_near(layout, address)}"


def _near(layout: AccountLayout, address: Address) -> str:
    return did_you_mean(str(address), [str(entry.address) for entry in layout.account.installations])


def _forget_installations(layout: AccountLayout, gone: list[Installation]) -> Proposal:
    if layout.contents is None:
        raise InputError(f"{layout.name} was not surveyed yet", layout.surveying)
    stays = list[Hint]()
    for installation in gone:
        folder = layout.lies_now(installation)
        mixed = mixed_with(layout, folder, installation) if folder is not None else []
        if folder is not None and mixed and not is_gone(layout, installation):
            stays.append(Hint(say("forget/stays", folder=folder.shown, mixed=mixed)))
        elif folder is not None and not is_gone(layout, installation):
            found = layout.contents.applications.get(folder)
            words = removal(layout, folder, installation, found).words
            raise MessageError(f"{installation.application} is still in {folder.shown}", words)
        if tables_left(layout, installation):
            left = remaining_words(own_tables(layout, folder, installation, None))
            if not mixed:
                words = say("forget/tables", left=left)
                raise MessageError(f"of {installation.application} at {installation.address} is left", words)
            stays.append(Hint(say("forget/tables-stay", left=left)))
        seen = _seen_since(layout, installation)
        if seen is not None and seen.what == installation.application and not mixed:
            words = say("forget/shown", seen=page_words(seen, layout.plan.titles), day=seen.seen[:10])
            raise MessageError(f"{seen.url} still shows it", words, Remedy.of(Action.PROBE, str(installation.address)))
    told = [
        Hint(say("forget-installations/taken-out", gone=(f"{entry.application} at {entry.address}" for entry in gone))),
        *stays,
    ]
    told += [Hint(unsure_tables(entry)) for entry in gone if tables_left(layout, entry) is None]
    told += [hint for entry in gone for hint in _to_ask(layout, entry)]
    return Proposal(layout.name, tuple(dropping(layout, entry) for entry in gone), tuple(told))


def _forget_domain(
    layout: AccountLayout, domain: Domain, gone: list[Installation], is_elsewhere: bool = False
) -> Proposal:
    there = [
        entry
        for entry in layout.account.installations
        if entry.address.host == domain.name and entry.number not in {one.number for one in gone}
    ]
    if there:
        raise InputError(
            f"{listed(f'{entry.application} at {entry.address}' for entry in there)} is still in the plan at "
            f"{domain.name}; retire and forget that first"
        )
    apart = (CERTIFICATES, *(GONE_ALONG if is_elsewhere else ()))
    hanging = [one for one in dependents_of(layout, domain) if one.slug not in apart]
    if hanging:
        raise MessageError(f"{domain.name} is not done with", say("dependent/hang", hanging=hanging))
    left = left_by(layout, domain)
    if left is not None and left.files:
        words = f"{counted(left.files, 'file')} still lie in {left.root.shown}; keep a copy and remove them first"
        raise InputError(words, clearing_folder(layout, left.root, "everything"))
    outside = layout.outside
    if outside is not None and any(one.host == domain.name for one in outside.hosts):
        raise InputError(f"the server still answers for {domain.name}; remove it at the host, and read that in again")
    own = _forget_installations(layout, gone) if gone else None
    pointing = layout.seen_pointing(domain.name)
    also = say("forget-domain/and-installations", gone=len(gone)) if gone else ""
    told = [
        Hint(say("forget-domain/taken-out", domain=domain.name, also=also)),
        *(own.told[1:] if own is not None else ()),
        *([Hint(say("forget-domain/still-points", day=pointing[1][:10]))] if pointing and pointing[0] else []),
    ]
    return Proposal(layout.name, (*(own.changes if own is not None else ()), dropping(layout, domain)), tuple(told))
