"""A domain on its way from one account to another: what both say of it, and what is still missing."""

from __future__ import annotations

from collections.abc import Iterator

from kettlepost.core.messages import Message, say, series
from kettlepost.core.names import Address, HostName
from kettlepost.core.plan import Change, RecordId
from kettlepost.core.remedies import Action, Remedy
from kettlepost.core.rules.cross_account import AccountSummary, AllAccounts, TransferNote
from kettlepost.core.rules.findings import Finding, Party, Severity, WayOut
from kettlepost.core.rules.registry import RuleReach, plan_rule
from kettlepost.core.steps import CompleteEntry, Confirm


@plan_rule("between-accounts", "note", "stop", reaches=RuleReach.HOST)
def between_accounts(whole: AllAccounts) -> Iterator[Finding]:
    """A domain is to come from one account to another, with all that is installed at it.

    Until its name leads to the other machine, visitors find it where it was; both are to be right for so long, and
    nobody is to write where it was once its data are copied. It stops where the two accounts do not say the same of
    it, where something that is installed at it is not written down in the new one and would be left, or where nobody
    has said which machines the two are on.

    Bad:

        [[domain]]
        name = "lanternchoir.example"
        kind = "addon"
        root = "choir"
        state = "planned"
        account_now = "saltcote"

    Good:

        [[domain]]
        name = "lanternchoir.example"
        kind = "addon"
        root = "choir"

    Ways out:

    - do what is on the work list of the domain, and confirm it;
    - where one account does not say it, write it down there, or take it out here;
    - write down what is installed at it in the new account as well;
    - write down the addresses of both machines.
    """
    for summary in whole.accounts.values():
        for note in summary.transfers:
            other = whole.other_end(summary, note)
            if other is None:
                yield _one_sided(whole, summary, note)
            elif note.is_coming:
                yield _both_sided(whole, summary, note, other)


def _arrived(account: str, note: TransferNote, other: str, left: TransferNote) -> Iterator[Change]:
    """What is written once a domain has come: it is live here, and retired with all of it where it was."""
    yield Change(account, "domain", note.number, {"state": "live", "account_now": None})
    yield from (Change(account, "installation", number, {"state": "live"}) for _, _, number in note.sites)
    yield Change(other, "domain", left.number, {"state": "retired", "account_next": None})
    yield from (Change(other, "installation", number, {"state": "retired"}) for _, _, number in left.sites)


def _party(whole: AllAccounts, summary: AccountSummary, note: TransferNote) -> Party:
    key = "account_now" if note.is_coming else "account_next"
    return whole.party(summary, "domain", note.number, note.kind, note.host, key)


def _one_sided(whole: AllAccounts, summary: AccountSummary, note: TransferNote) -> Finding:
    """What only one of the two accounts says."""
    key = "account_now" if note.is_coming else "account_next"
    there = whole.accounts.get(note.other)
    declared = next((one for one in there.hosts if one.host == note.host and not one.also), None) if there else None
    ways: list[WayOut] = []
    if declared is not None and there is not None and note.is_coming:
        says = Change(there.account, "domain", declared.number, {"account_next": summary.account})
        ways.append(WayOut(say("between-accounts/write-there", other=note.other, account=summary.account), [says]))
    if not (note.is_coming and declared is not None):
        taken = Change(summary.account, "domain", note.number, {key: None})
        ways.append(WayOut(say("between-accounts/take-out", key=key), [taken]))
    elif not note.sites:
        dropped = Change(summary.account, "domain", note.number, drop=True)
        ways.append(WayOut(say("between-accounts/drop", host=note.host), [dropped]))
    how = "no-account" if there is None else "not-there" if declared is None else "not-said"
    slug = {
        "no-account": "between-accounts/no-account", "not-there": "between-accounts/not-there",
        "not-said": "between-accounts/not-said",
    }[how]  # fmt: skip
    return Finding(
        at=note.host,
        title=say(slug, host=note.host, other=note.other, is_coming=note.is_coming),
        why=say("between-accounts/why-one-sided"),
        parties=[_party(whole, summary, note)],
        ways_out=ways,
        account=summary.account,
        severity="stop",
        also_at=[there.account] if declared is not None and there is not None else [],
    )


def _both_sided(whole: AllAccounts, summary: AccountSummary, note: TransferNote, left: TransferNote) -> Finding:
    """What both say alike, and what is still missing."""
    there = whole.accounts[note.other]
    planned = {(path, application) for path, application, _ in note.sites}
    missing = [one for one in left.sites if one[:2] not in planned]
    unknown = [one.account for one in (summary, there) if not one.has_machine]
    severity: Severity = "stop" if missing or unknown else "note"
    if missing:
        title, why, way = _left(summary.account, note, missing)
    elif unknown:
        title = say("between-accounts/unknown", host=note.host, names=unknown)
        why = say("between-accounts/why-unknown")
        completed = [CompleteEntry(name, "account", None, ("ip_addresses",)) for name in unknown]
        way = WayOut(say("between-accounts/write-machines", names=unknown), steps=completed)
    else:
        title = say("between-accounts/title", host=note.host, other=note.other, account=summary.account)
        why = say("between-accounts/why", other=note.other)
        way = WayOut(
            say("between-accounts/work", host=note.host),
            list(_arrived(summary.account, note, there.account, left)),
            Remedy.of(Action.LIST_WORK, note.host),
            [Confirm(summary.account, note.host)],
        )
    return Finding(
        at=note.host,
        title=title,
        why=why,
        parties=[_party(whole, summary, note), _party(whole, there, left)],
        ways_out=[way],
        account=summary.account,
        severity=severity,
        also_at=[there.account],
        about=[RecordId(there.account, "installation", number) for _, _, number in missing],
    )


def _left(account: str, note: TransferNote, missing: list[tuple[str, str, int]]) -> tuple[Message, Message, WayOut]:
    """What is installed at a domain and would not come along."""
    each = [(application, Address(HostName(note.host), path)) for path, application, _ in missing]
    named = series(say("installation/at", application=application, address=str(at)) for application, at in each)
    entries = (
        {"application": application, "address": str(at).rstrip("/"), "state": "planned"} for application, at in each
    )
    return (
        say("between-accounts/left", named=named, other=note.other, account=account, number=len(missing)),
        say("between-accounts/why-left", host=note.host),
        WayOut(
            say("between-accounts/write-sites", account=account),
            [Change(account, "installation", None, entry) for entry in entries],
        ),
    )
