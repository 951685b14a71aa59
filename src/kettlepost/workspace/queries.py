"""What a user asks of a plan: each question one function, which reads what it depends on and no more."""

from __future__ import annotations

import dataclasses
import datetime
import ipaddress
import os
from collections.abc import Collection, Iterable, Iterator, Sequence
from typing import NamedTuple

from kettlepost.core import answering, layout, placing
from kettlepost.core.answering import (
    AddressRow,
    Answers,
    DomainRow,
    FolderRow,
    FolderView,
    InstallRow,
    Request,
    WhereView,
)
from kettlepost.core.checking import Checked, gathered
from kettlepost.core.errors import InputError
from kettlepost.core.messages import Words
from kettlepost.core.names import Folder, InvalidName, quoted
from kettlepost.core.placing import Granted, Weighing, Wish
from kettlepost.core.remedies import Action, Remedy
from kettlepost.core.rules import find_rule, found_with, rules
from kettlepost.core.webserver import Visitor
from kettlepost.core.words import listed
from kettlepost.workspace.changes import scenario_of
from kettlepost.workspace.check_cache import KnownPlan, check_plan
from kettlepost.workspace.clock import today_or
from kettlepost.workspace.last_weighing import remember
from kettlepost.workspace.plan_edits import at_homes, folder_of
from kettlepost.workspace.plan_folder import PlanFolder

Names = Sequence[str] | None


class AnswerRow(NamedTuple):
    """An answer to one of many: what was asked, where it leads, what answers, with what status, how sure, in words.

    `status` is None where none can be told, `certainty` empty where what was asked is wrong.
    """

    asked: str
    leads_to: str
    answers: str
    status: int | None
    certainty: str
    words: Words


class RequestOptions(NamedTuple):
    """How addresses are asked for: by whom, by which method and scheme, at what time."""

    when: layout.When = "now"
    visitor: str | None = None
    method: str = "GET"
    scheme: str | None = None

    @property
    def who(self) -> Visitor:
        """Who asks. Raises InputError for a visitor that is no IP address."""
        usual = Visitor()
        if self.visitor is not None:
            try:
                ipaddress.ip_address(self.visitor)
            except ValueError:
                raise InputError(
                    f"{quoted(self.visitor)} is no IP address; give the visitor's, such as 203.0.113.9"
                ) from None
        return Visitor(self.visitor or usual.ip, self.method.upper())


def map_addresses(plan: PlanFolder, accounts: Names = None) -> dict[str, list[AddressRow]]:
    """Every address that the plan names with the folder it reaches, by account."""
    names, whole = plan.known_names(list(accounts or ())), plan.layout_for(accounts)
    return {name: list(answering.by_address(whole, whole.accounts[name])) for name in names}


def map_folders(plan: PlanFolder, accounts: Names = None, every: bool = False) -> dict[str, list[FolderRow]]:
    """The folders that somebody holds with the addresses that reach them, by account; `every` shows all folders."""
    names, whole = plan.known_names(list(accounts or ())), plan.layout_for(accounts)
    return {name: answering.by_folder(whole, whole.accounts[name], every) for name in names}


def where(plan: PlanFolder, address: str, when: layout.When = "now", manner: RequestOptions | None = None) -> WhereView:
    """Where an address leads, what answers there and why. Raises InputError when it is none.

    `manner` says who asks and how, where that is not a visitor from the internet with a browser.
    """
    asked = manner or RequestOptions(when)
    who = asked.who
    try:
        request = Request.parse(address, asked.scheme, who)
    except InvalidName as error:
        raise InputError(str(error)) from None
    return answering.where(plan.layout, request.address, asked.when, request)


def where_each(
    plan: PlanFolder, addresses: Iterable[str], when: layout.When = "now", manner: RequestOptions | None = None
) -> Iterator[AnswerRow]:
    """The same in brief for many addresses, one after the other."""
    asked = manner or RequestOptions(when)
    who, answers = asked.who, Answers(plan.layout, asked.when)
    for line in addresses:
        try:
            request = Request.parse(line, asked.scheme, who)
        except InvalidName as error:
            yield AnswerRow(line, "-", "wrong", None, "", str(error))
            continue
        yield AnswerRow(line, *answers.brief(request))


def where_folder(plan: PlanFolder, folder: str, account: str | None = None, when: layout.When = "now") -> FolderView:
    """Which addresses reach a folder of an account. Raises InputError when it cannot be told which account's."""
    name = _account_with(plan, folder) if account is None and len(plan.names) > 1 else _only_account(plan, account)
    whole = plan.layout_for([name])
    return answering.where_folder(whole, whole.accounts[name], folder_of(folder, plan), when)


def where_each_folder(
    plan: PlanFolder, folders: Iterable[str], account: str | None = None, when: layout.When = "now"
) -> Iterator[AnswerRow]:
    """The same in brief for many folders, one after the other."""
    name = _only_account(plan, account)
    whole = plan.layout_for([name])
    for line in folders:
        try:
            view = answering.where_folder(whole, whole.accounts[name], folder_of(line), when)
        except InputError as error:
            yield AnswerRow(line, "-", "wrong", None, "", str(error))
            continue
        leads = ", ".join(view.addresses) or "-"
        yield AnswerRow(line, leads, view.answers, view.status, view.certainty, view.words)


def domains(plan: PlanFolder, accounts: Names = None) -> list[DomainRow]:
    """Every domain: where it leads, what stands at it and what answers now."""
    names, whole = plan.known_names(list(accounts or ())), plan.layout_for(accounts)
    return [row for name in names for row in answering.domain_rows(whole, whole.accounts[name])]


def installations(plan: PlanFolder, accounts: Names = None, today: datetime.date | None = None) -> list[InstallRow]:
    """Every installation, with how many findings it has a part in."""
    names = plan.known_names(list(accounts or ()))
    counts = found_with(check(plan, names if accounts else None, today=today).findings)
    return [row for name in names for row in answering.install_rows(plan.layout_of(name), counts.get(name, {}))]


def check(
    plan: PlanFolder,
    accounts: Names = None,
    only: Collection[str] | None = None,
    skip: Collection[str] = (),
    today: datetime.date | None = None,
    against: Sequence[str] = (),
) -> Checked:
    """Ask every rule, or those in `only`, but for those in `skip`; many findings of one kind are told as one.

    What sources such as a server's configuration say now, `against`, counts instead of what was kept of
    them; `plan` is of no use for other questions then. Raises PlanError with every fault of the plan,
    InputError for a rule that is none.
    """
    names = plan.known_names(list(accounts)) if accounts else None
    asked = {find_rule(slug).slug for slug in only} if only else {rule.slug for rule in rules()}
    asked -= {find_rule(slug).slug for slug in skip}
    if against:
        from kettlepost.workspace.imports import seen_in  # which loads every reader there is

        plan.against = seen_in(plan, against)
    checked = check_plan(plan, today_or(today), names, asked, os.cpu_count() or 1)
    return dataclasses.replace(checked, findings=gathered(checked.findings))


def check_near(plan: PlanFolder, accounts: Sequence[str], today: datetime.date | None = None) -> Checked:
    """What `check` says of some accounts, with as few others looked at as can have a part in it."""
    among = layout.neighbours(plan.layout.hosts, plan.layout_of, accounts)
    checked = check_plan(plan, today_or(today), accounts, {rule.slug for rule in rules()}, os.cpu_count() or 1, among)
    return dataclasses.replace(checked, findings=gathered(checked.findings))


def weigh(
    plan: PlanFolder,
    application: str,
    domain: str = "",
    name: str | None = None,
    prefer: str | None = None,
    new_domain: str | None = None,
    account: str | None = None,
    any_account: bool = False,
    other_domains: bool = False,
    today: datetime.date | None = None,
    client: str | None = None,
    despite: Collection[str] = (),
    because: str | None = None,
) -> Weighing:
    """Weigh the places where an application could go, best first, and remember them for `place`.

    For a `client` instead of a domain, their accounts are compared by what they leave room for. Findings of the rules
    in `despite` weigh nothing, as they are lived with; `because` is the reason, which `place` writes down.
    """
    lived_with = tuple(find_rule(rule).slug for rule in despite)
    if lived_with and not (because or "").strip():
        raise InputError("a rule that is broken wants a reason why that is lived with")
    if bool(domain) == (client is not None):
        raise InputError("an application is weighed for a domain, or for a client")
    wish = Wish(application, domain, name, prefer, new_domain, account, any_account, other_domains, client,
                lived_with, because)  # fmt: skip
    weighing = placing.weigh(scenario_of(KnownPlan(plan, ()), today_or(today)), wish)
    remember(plan.path, weighing)
    return weighing


def grant(plan: PlanFolder, table: bytes, name: str, today: datetime.date | None = None) -> list[Granted]:
    """Give each wish of a table its best place, one after the other. Raises PlanError with every fault of the table."""
    wishes = placing.read_wishes(table, name)
    return list(placing.grant(scenario_of(KnownPlan(plan, ()), today_or(today)), wishes))


def _only_account(plan: PlanFolder, name: str | None) -> str:
    if name is None and len(plan.names) != 1:
        there = f", one of {listed(plan.names, 12)}" if plan.names else "; there is none yet"
        raise InputError(f"several accounts may have such folders{there}", Remedy(Action.CHOOSE_ACCOUNT))
    return plan.known_names([name])[0] if name is not None else plan.names[0]


def _account_with(plan: PlanFolder, written: str) -> str:
    """The one account that has a folder. Raises InputError when it is none, or several."""
    if written.startswith("/"):
        having = [name for name, _ in at_homes(plan, written)]
    else:
        folder = folder_of(written)
        having = [name for name in plan.names if _has(plan.layout_of(name), folder)]
    if not having:
        raise InputError(f"no account has a folder {quoted(written)}, by what its plan and survey say")
    if len(having) > 1:
        raise InputError(
            f"accounts {listed(having, 12)} have a folder {quoted(written)}", Remedy(Action.CHOOSE_ACCOUNT)
        )
    return having[0]


def _has(known: layout.AccountLayout, folder: Folder) -> bool:
    is_there = known.contents is not None and known.contents.exists(folder)
    return is_there or known.is_held(folder) or bool(known.claimed_inside(folder))
