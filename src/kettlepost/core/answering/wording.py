"""English for what is known of answers: the one place where it is made."""

from __future__ import annotations

from collections.abc import Iterator

from kettlepost.core.answering.facts import Answer, Detail, Doubt, Shown
from kettlepost.core.layout import HTACCESS, Destination
from kettlepost.core.names import Folder, HostName, printable
from kettlepost.core.webserver import SourceLine
from kettlepost.core.words import listed

_KINDS = {
    "primary": "the primary domain",
    "addon": "an add-on domain",
    "subdomain": "a subdomain",
    "alias": "an alias",
    "temporary": "a temporary address",
}


def answer_words(found: Answer, in_full: bool = True) -> str:
    """What a visitor gets, in a line.

    Not `in_full`, it leaves out what hangs on lists and certificates of a server, and how a placeholder is known.
    """
    if found.hops:
        return _redirect_words(found)
    may_list = any(doubt.key == "lists" for doubt in found.doubts)
    words = shown_words(found.shown, found.host, None if may_list else found.status)
    if found.goes_round:
        words += ", which goes round in circles"
    if found.behind is not None:
        words += f"; behind it {shown_words(found.behind, found.host, None)}"
    because = (found.behind or found.shown).because
    doubts = [doubt for doubt in found.doubts if in_full or doubt.key not in ("lists", "tls")]
    if doubts and found.kind != "unknown":
        words += f"; it depends on {listed(map(doubt_words, doubts), 2)}"
    return f"{words} ({printable(because)})" if because and in_full else words


def _redirect_words(found: Answer) -> str:
    first, last = found.hops[0].target, found.hops[-1].target
    if found.goes_round:
        return f"a redirect to {first} that goes round in circles"
    words = f"a redirect to {first}" + (f", in the end to {last}" if last != first else "")
    return words if found.end is None else f"{words}: {answer_words(found.end)}"


def doubt_words(doubt: Doubt) -> str:
    """On what an answer depends: what nothing tells, the key that would, and the line that asks for it."""
    key = f" ({doubt.key} of [{doubt.table}])" if doubt.key else ""
    return f"{printable(doubt.on)}{key}" + (f" ({_place(doubt.line)} line {doubt.line.line})" if doubt.line else "")


def reasons(found: Answer) -> list[str]:
    """Step by step why this is what answers."""
    told = list(_way_in(found.reach)) if found.reach is not None else []
    for number, hop in enumerate(found.hops):
        told.append(f"sends visitors on to {hop.target}")
        if hop.onward is not None and number < len(found.hops) - 1:
            told += _way_in(hop.onward)
    if found.hops:
        return [*told, *(reasons(found.end) if found.end is not None else ())]
    if found.rule is not None and found.reach is not None:
        where = found.reach.mount.account.place(found.rule)
        told.append(f"the server has a rule for {found.rule.address} and all below it ({where})")
    told += [f"{_place(line)} line {line.line}: {printable(line.text)}" for line in found.lines]
    return [*told, answer_words(found)]


def _place(line: SourceLine) -> str:
    if line.file:
        return printable(line.file)
    return printable(Folder(line.folder).below(HTACCESS))


def shown_words(shown: Shown, host: HostName, status: int | None) -> str:
    """What is shown, or why nothing is."""
    held, name = shown.held, printable(shown.name)
    who = held.words if held is not None else ""
    page, under = (
        f", with the page {name}" if name else "",
        f"; it lies under {who} in {shown.base.shown}" if who else "",
    )
    by = _place(shown.by) if shown.by is not None else ""
    return _TOLD[shown.detail].format(
        place=shown.place.shown, name=name, who=who, host=host, number=shown.number, by=by, page=page, under=under,
        page_or_under=page or under, found_by=held.by if held is not None else "",
        behind=f"; {who} behind it is not seen" if who else "", sent=f", to which {by} sends the path" if by else "",
        leads=f"to {name}, where the survey did not look" if name else "whose target was not told",
        instead={200: _LIST, 403: "a denial (403)"}.get(status or 0, f"{_LIST}, or a denial"),
    )  # fmt: skip


_LIST = "a list of what is there"
_TOLD = {
    Detail.NOT_SURVEYED: "unknown: {name} was not surveyed yet",
    Detail.NOT_READ: "unknown: the survey could not read {place} ({name}){under}",
    Detail.NO_SECURE_HOST: "unknown: {host} does not answer by https here, but another host, or none",
    Detail.BEHIND_LINK: "unknown: {place} is a symbolic link {leads}",
    Detail.MAY_COME: "unknown: not there now, but {name} may bring it",
    Detail.NAME_NOT_KEPT: "no folder; perhaps one of the {number} files in {place}, whose names were not kept "
    "or are of another survey{under}",
    Detail.PASSED_ON: "unknown: {name} answers",
    Detail.NOT_THERE: "nothing: {place} does not exist{page_or_under}",
    Detail.BELOW_A_FILE: "nothing: {place} is a file, and nothing lies below it{page}",
    Detail.HANDED_TO_NOTHING: "nothing: {by} sends the path to what does not exist",
    Detail.GONE: "nothing: {place} is gone for good (410){page}",
    Detail.LEADS_NOWHERE: "nothing: it stands for {name}, which leads nowhere",
    Detail.NOT_YET: "nothing yet: {host} is planned and not on the account ({name})",
    Detail.NOT_ANY_MORE: "nothing any more: {host} is retired ({name})",
    Detail.OTHER_FORM_OF_HOST: "not one of ours: {name} is, and nobody declares {host}",
    Detail.NO_DOMAIN: "not one of ours: no domain of the plan is called {host}",
    Detail.NO_INDEX: "no index file: {instead}",
    Detail.EMPTY: "an empty folder",
    Detail.FOUND_BY: "{who}, found by {found_by}",
    Detail.THROUGH: "{who}, through {name}",
    Detail.STARTED_FROM: "{name}",
    Detail.ANSWERS_BELOW: "{who}: it answers every path below it",
    Detail.PLACEHOLDER: "a placeholder page, {name}{behind}",
    Detail.PAGE_BEFORE: "{name}, a page of its own{behind}",
    Detail.OWN_PAGE: "{name}, a page of its own",
    Detail.NOT_LOOKED_INTO: "{name}, perhaps a placeholder: a listing does not tell what it says",
    Detail.PERHAPS_PLACEHOLDER: "{name}, perhaps a placeholder: look at it",
    Detail.FILE: "the file {name}",
    Detail.HANDED: "{name}{sent}",
    Detail.LED_ELSEWHERE: "{name} in {place}, where the server leads",
    Detail.FALLBACK: "{name}, shown for what is not there",
    Detail.SENT_ON: "a redirect to {name}",
    Detail.SENT_BY_SERVER: "a redirect to {name} ({number})",
    Detail.PASSWORD: "asks for a password{page}",
    Detail.DENIED: "denied ({number}){page}",
    Detail.FAILED: "an error ({number}){page}",
}


def _way_in(reach: Destination) -> Iterator[str]:
    """How a host leads to a folder, step by step."""
    mount, domain = reach.mount, reach.mount.domain
    named = f"another name of {domain.name}" if mount.address.host != domain.name else _KINDS[domain.kind]
    stands = f", which stands for {domain.of}" if domain.of is not None else ""
    place = mount.account.place(domain)
    yield f"{mount.address.host} is {named}{stands} ({place})"
    if domain.state == "retired":
        yield "it is retired, so this holds only while it is still on the account"
    if domain.https:
        yield "http is sent on to https"
    if domain.protected:
        yield "the server asks for a password"
    if mount.alias is not None:
        alias = mount.alias
        yield f"the server maps {mount.address} to {alias.folder.shown} ({mount.account.place(alias)})"
    elif mount.folder is not None:
        yield f"its root is {mount.folder.shown}"
    if reach.folder is not None and reach.folder != mount.folder:
        yield f"so it leads to {reach.folder.shown}"
