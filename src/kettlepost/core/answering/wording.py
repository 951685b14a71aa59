"""What is to be said of answers."""

from __future__ import annotations

from collections.abc import Iterator

from kettlepost.core.answering.facts import Answer, Doubt, Shown
from kettlepost.core.layout import HTACCESS, Destination
from kettlepost.core.messages import Message, Words, joined, say
from kettlepost.core.names import Folder, HostName, printable
from kettlepost.core.webserver import SourceLine

_KINDS = {
    "primary": say("way-in/primary"),
    "addon": say("way-in/addon"),
    "subdomain": say("way-in/subdomain"),
    "alias": say("way-in/alias"),
    "temporary": say("way-in/temporary"),
}


def answer_words(found: Answer, in_full: bool = True) -> Message:
    """What a visitor gets, in a line.

    Not `in_full`, it leaves out what hangs on lists and certificates of a server, and how a placeholder is known.
    """
    if found.hops:
        return _redirect_words(found)
    may_list = any(doubt.key == "lists" for doubt in found.doubts)
    words = shown_words(found.shown, found.host, None if may_list else found.status)
    because = (found.behind or found.shown).because if in_full else ""
    if not (found.goes_round or found.behind or found.doubts or because):
        return words
    doubts = [doubt for doubt in found.doubts if in_full or doubt.key not in ("lists", "tls")]
    behind = shown_words(found.behind, found.host, None) if found.behind is not None else None
    return joined(
        words,
        say("answer/goes-round") if found.goes_round else None,
        say("answer/behind-password", behind=behind) if behind is not None else None,
        say("answer/depends", doubts=map(doubt_words, doubts)) if doubts and found.kind != "unknown" else None,
        say("answer/because", because=printable(because)) if because else None,
    )


def _redirect_words(found: Answer) -> Message:
    first, last = found.hops[0].target, found.hops[-1].target
    if found.goes_round:
        return say("answer/redirect-round", first=first)
    end = say("answer/then", end=answer_words(found.end)) if found.end is not None else None
    return say(
        "answer/redirect", first=first, last=say("answer/in-the-end", last=last) if last != first else None, end=end
    )


def doubt_words(doubt: Doubt) -> Message:
    """On what an answer depends: what nothing tells, the key that would, and the line that asks for it."""
    key = say("answer/key", key=doubt.key, table=doubt.table) if doubt.key else None
    line = say("answer/doubt-line", place=_place(doubt.line), line=doubt.line.line) if doubt.line else None
    return say("answer/doubt", on=safe(doubt.on), key=key, line=line)


def reasons(found: Answer) -> list[Words]:
    """Step by step why this is what answers."""
    told = list(_way_in(found.reach)) if found.reach is not None else []
    for number, hop in enumerate(found.hops):
        told.append(say("answer/sends-on", target=hop.target))
        if hop.onward is not None and number < len(found.hops) - 1:
            told += _way_in(hop.onward)
    if found.hops:
        return [*told, *(reasons(found.end) if found.end is not None else ())]
    if found.rule is not None and found.reach is not None:
        where = found.reach.mount.account.place(found.rule)
        told.append(say("answer/rule", address=found.rule.address, place=where))
    told += [say("answer/line", place=_place(line), line=line.line, text=printable(line.text)) for line in found.lines]
    return [*told, answer_words(found)]


def _place(line: SourceLine) -> str:
    if line.file:
        return printable(line.file)
    return printable(Folder(line.folder).below(HTACCESS))


def safe(words: Words) -> Words:
    """The same with nothing in it that a terminal would act on."""
    if isinstance(words, str):
        return printable(words)
    facts = {name: printable(fact) if isinstance(fact, str) else fact for name, fact in words.facts.items()}
    return Message(words.slug, facts)


def shown_words(shown: Shown, host: HostName, status: int | None) -> Message:
    """What is shown, or why nothing is."""
    told = _ShownFacts(shown, host, status)
    return say(shown.detail.value, **{name: getattr(told, name)() for name in shown.detail.facts})


class _ShownFacts:
    """Whatever sentences speak of, about what is shown at a host, with the status of the answer."""

    def __init__(self, shown: Shown, host: HostName, status: int | None):
        self._shown, self._host, self._status = shown, host, status

    def place(self) -> str:
        return self._shown.place.shown

    def name(self) -> Words:
        return safe(self._shown.name)

    def number(self) -> int:
        return self._shown.number

    def host(self) -> HostName:
        return self._host

    def who(self) -> Words | None:
        return self._shown.held.words if self._shown.held is not None else None

    def by(self) -> str | None:
        return _place(self._shown.by) if self._shown.by is not None else None

    def page(self) -> Message | None:
        return say("answer/page", name=self.name()) if self._shown.name else None

    def under(self) -> Message | None:
        return say("answer/under", who=self.who(), base=self._shown.base.shown) if self.who() else None

    def page_or_under(self) -> Message | None:
        return self.page() or self.under()

    def found_by(self) -> Words | None:
        held = self._shown.held
        return (held.by or say("answer/by-plan")) if held is not None else None

    def behind(self) -> Message | None:
        return say("answer/hidden-behind", who=self.who()) if self.who() else None

    def sent(self) -> Message | None:
        return say("answer/sends-path", by=self.by()) if self._shown.by is not None else None

    def leads(self) -> Message:
        return say("answer/leads-to", name=self.name()) if self._shown.name else say("answer/leads-untold")

    def instead(self) -> Message:
        return _INSTEAD.get(self._status or 0, _UNTOLD)


_INSTEAD = {200: say("answer/list"), 403: say("answer/denial")}
_UNTOLD = say("answer/list-or-denial")


def _way_in(reach: Destination) -> Iterator[Message]:
    """How a host leads to a folder, step by step."""
    mount, domain = reach.mount, reach.mount.domain
    is_own = mount.address.host == domain.name
    named = _KINDS[domain.kind] if is_own else say("way-in/other-name", domain=domain.name)
    stands = say("way-in/stands-for", of=domain.of) if domain.of is not None else None
    place = mount.account.place(domain)
    yield say("way-in/host", host=mount.address.host, named=named, stands=stands, place=place)
    if domain.state == "retired":
        yield say("way-in/retired")
    if domain.https:
        yield say("way-in/https")
    if domain.protected:
        yield say("way-in/password")
    if mount.alias is not None:
        alias = mount.alias
        place = mount.account.place(alias)
        yield say("way-in/alias-folder", address=mount.address, folder=alias.folder.shown, place=place)
    elif mount.folder is not None:
        yield say("way-in/root", folder=mount.folder.shown)
    if reach.folder is not None and reach.folder != mount.folder:
        yield say("way-in/leads", folder=reach.folder.shown)
