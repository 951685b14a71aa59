"""What the generators of steps look at: one account, what was found in it, and what was said to be done."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from functools import cached_property

from kettlepost.core.layout import AccountLayout
from kettlepost.core.names import Address, Folder, HostName, printable
from kettlepost.core.plan import Domain, Installation, RecordId, Waits
from kettlepost.core.remedies import Action, Remedy
from kettlepost.core.rules import Finding
from kettlepost.core.rules.bringing import Brought
from kettlepost.core.steps import (
    AddHost,
    CarriedOut,
    ChangeRoot,
    CopyTables,
    DoneWhen,
    DropTables,
    DropUser,
    GivePassword,
    KeepTables,
    LookAgain,
    MakeDatabase,
    MakeRecord,
    RemoveHost,
    Step,
    Wait,
    Who,
    step_id,
)
from kettlepost.core.survey import SeenPage, host_of, is_in
from kettlepost.core.work.records import (
    CLIENT,
    HOST,
    NOBODY,
    REGISTRAR,
    YOU,
    DoneMark,
    StoredSetAside,
    WorkKind,
    WorkStep,
)

_WHO = {
    Who.HOST: HOST, Who.REGISTRAR: REGISTRAR, Who.CLIENT: CLIENT, Who.FILES: YOU, Who.PLAN: YOU, Who.NOBODY: NOBODY,
}  # fmt: skip


_OF_DATABASES = MakeDatabase | GivePassword | CopyTables | KeepTables | DropTables | DropUser
_OF_NAMES = AddHost | ChangeRoot | RemoveHost | MakeRecord


class WorkContext:
    """One account as the generators see it.

    `findings` are those of the account, `said` what was said to be done by id, `waits` how long things take, and
    `confirmed` the addresses and hosts that were made live as they were planned; `set_asides` is what was set aside,
    the oldest first, `carried` the steps that the program carried out, the numbers of their records, and when they came
    to their end, by their ids; `begun` is when something was last planned for an address. `others` gives another
    account by its name.
    """

    def __init__(
        self, layout: AccountLayout, findings: Sequence[Finding], said: Mapping[str, DoneMark], waits: Waits,
        confirmed: Collection[str] = (), set_asides: Sequence[StoredSetAside] = (),
        carried: Mapping[str, tuple[Step, str, str]] | None = None, begun: Mapping[str, str] | None = None,
        others: Callable[[str], AccountLayout | None] | None = None,
    ):  # fmt: skip
        self.layout, self.findings, self.said, self.waits = layout, findings, said, waits
        self.confirmed, self.set_asides, self._carried = confirmed, set_asides, carried or {}
        self._begun = begun or {}
        self._others = others
        self.coming: dict[int, Brought | None] = {}
        """What comes with domains from other accounts, by their numbers, as far as that was asked."""
        self._aside: dict[str, str] = {one.folder: one.number for one in set_asides}
        self._kinds_said = {own.rpartition("-")[0] for own in said}
        self.account = layout.account
        self.contents = layout.contents

    def other_account(self, name: str) -> AccountLayout | None:
        """Another account of the plan; None for none, and where nobody can tell."""
        return self._others(name) if self._others is not None else None

    def step(
        self,
        kind: WorkKind,
        site: Address | HostName | Folder | str,
        step: Step,
        needs: Iterable[str] = (),
        seen: bool | None = None,
        subject: str = "",
        who: str = "",
        remedies: Iterable[Remedy] = (),
    ) -> WorkStep:
        """A step; its id is made of its kind, its account and its `subject`, the site where none is given.

        Whoever does such a step does it, where nobody else is named.
        """
        shown = printable(str(site))
        own, who = step_id(kind, self.account.name, subject or shown), who or _WHO[step.who]
        looked = self._looked(step) if seen is not None else ""
        does, (known, number, taken) = list(remedies), self._carried.get(own, (None, "", ""))
        if isinstance(step, CarriedOut) and not does:
            does.append(Remedy.of(Action.CARRY_OUT, own))
        is_carried = known == step and taken > "" and self._counts(kind, shown, taken)
        return WorkStep(
            own, kind, self.account.name, shown, who, step, list(needs), self.wait_of(who), seen, looked,
            self._mark(kind, shown, own), does, self._aside.get(getattr(step, "folder", ""), "") if seen else "",
            number if known == step else "", is_carried=is_carried,
        )  # fmt: skip

    def look(
        self, site: Address | HostName, needs: Iterable[str], seen: bool | None, subject: str = "",
        databases: bool = False,
    ) -> WorkStep:  # fmt: skip
        """The look that ends a stretch of work: at the folders, and at `databases` where those were read before."""
        known = self.layout.databases if databases else None
        does = [self.layout.surveying]
        if known is not None:
            does.append(Remedy.of(Action.READ_DATABASES, self.account.name, "--from", known.source))
        step = LookAgain(self.account.name, known is not None)
        return self.step(WorkKind.SURVEY, site, step, needs, seen, subject, remedies=does)

    def _looked(self, step: Step) -> str:
        """When that was looked at by which one sees whether a step is done; empty where the plan tells."""
        survey, databases, outside = self.layout.survey, self.layout.databases, self.layout.outside
        if isinstance(step, _OF_DATABASES):
            return databases.taken if databases is not None else ""
        if isinstance(step, _OF_NAMES):
            return outside.taken if outside is not None else ""
        if (
            step.seen not in (DoneWhen.THERE, DoneWhen.GONE, DoneWhen.KEPT)
            or isinstance(step, LookAgain)
            or survey is None
        ):
            return ""
        folder = getattr(step, "to", None) or getattr(step, "folder", None)
        parts = [part.taken for part in survey.later if folder is not None and is_in(folder, part.folder)]
        return max(parts, default=survey.taken)

    def shown(self, url: str) -> SeenPage | None:
        """What an address was seen to show at the account's machine; None where that was not asked."""
        world, host = self.layout.world, host_of(url)
        there = world.at.get(host) if world is not None else None
        pages = there.pages if there is not None else ()
        return next((one for one in pages if one.url == url and self.layout.is_its_machine(one.at)), None)

    def id(self, kind: WorkKind, subject: object) -> str:
        """What a step of this account is called, whether there is one or not."""
        return step_id(kind, self.account.name, printable(str(subject)))

    def is_left_open(self, kind: WorkKind, subject: object) -> bool:
        """Whether something was confirmed, and nobody has said since that a step of it is done."""
        return str(subject) in self.confirmed and not self.is_said(kind, subject)

    def is_said(self, kind: WorkKind, subject: object) -> bool:
        shown = printable(str(subject))
        return kind in self._kinds_said and self._mark(kind, shown, self.id(kind, subject)) is not None

    def _mark(self, kind: WorkKind, site: str, own: str) -> DoneMark | None:
        """What somebody said of a step, but for what was done before something was planned for its address again."""
        mark = self.said.get(own)
        return mark if mark is not None and self._counts(kind, site, mark.at) else None

    def _counts(self, kind: WorkKind, site: str, moment: str) -> bool:
        """Whether what was done at a moment was done for what is planned now; a password that is kept stays."""
        return kind is WorkKind.PASSWORD or moment >= self._begun.get(site, "")

    def wait_of(self, who: str) -> Wait:
        """How long somebody takes as a rule; a name from the plan is one of yours."""
        own = {HOST: self.waits.host, REGISTRAR: self.waits.registrar, CLIENT: self.waits.client}
        return as_wait(own.get(who, self.waits.you))

    def domain_of(self, address: Address) -> Domain | None:
        mount = self.layout.hosts.mount(address)
        return mount.domain if mount is not None else None

    def deploys_by_hand(self, installation: Installation) -> bool:
        """Whether an application is uploaded rather than installed by the host's installer."""
        return self.layout.deploy_by(installation) != "host"

    def found_with(self, record: Domain | Installation) -> list[Finding]:
        """The findings in which a record has a part."""
        return self._found.get(self.account.identity(record), [])

    @cached_property
    def _found(self) -> dict[RecordId, list[Finding]]:
        found: dict[RecordId, list[Finding]] = {}
        for one in self.findings:
            for record in {*one.records, *one.about}:
                found.setdefault(record, []).append(one)
        return found


def as_wait(hours: Sequence[float]) -> Wait:
    """Hours at least and at most as seconds."""
    return Wait(int(hours[0] * 3600), int(hours[-1] * 3600))
