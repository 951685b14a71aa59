"""One account's part of the layout: its roots, installations and finds, by folder."""

from __future__ import annotations

from bisect import bisect_left
from functools import cached_property

from kettlepost.core.layout.claims import Claim
from kettlepost.core.layout.contents import Contents
from kettlepost.core.layout.mounts import Mount
from kettlepost.core.names import Folder
from kettlepost.core.plan import Account, Application, Domain, Installation, Plan
from kettlepost.core.survey import Survey


class AccountLayout:
    """What is known of one account's folders, from the plan and from its survey, if it has one.

    `roots` holds the domains with a document root in their own right, `mounts` all mounts by
    the folder they lead to, `placed` the installations by the folder they lie in. `homeless`
    are installations whose address reaches no folder of this account.
    """

    def __init__(self, plan: Plan, account: Account, mounts: list[Mount], survey: Survey | None):
        self.plan = plan
        self.account = account
        self.survey = survey
        self.roots: dict[Folder, list[Domain]] = {}
        self.mounts: dict[Folder, list[Mount]] = {}
        self.placed: dict[Folder, list[Installation]] = {}
        self.homeless: list[Installation] = []
        for mount in mounts:
            if mount.folder is not None:
                self.mounts.setdefault(mount.folder, []).append(mount)
        for domain in account.domains:
            if domain.claims_root and domain.root is not None:
                holders = self.roots.setdefault(domain.root, [])
                if all(holder.name != domain.name for holder in holders):
                    holders.append(domain)

    @property
    def name(self) -> str:
        return self.account.name

    @cached_property
    def contents(self) -> Contents | None:
        return Contents(self.survey) if self.survey is not None else None

    def application(self, installation: Installation) -> Application:
        return self.plan.applications[installation.application]

    def title(self, application: str) -> str:
        """An application's name for people; its id when the catalogue no longer knows it."""
        known = self.plan.applications.get(application)
        return known.shown if known else application

    @cached_property
    def standing(self) -> dict[Folder, list[Installation]]:
        """Folders with the installations in them that are not retired."""
        active = {folder: [one for one in placed if one.state != "retired"] for folder, placed in self.placed.items()}
        return {folder: placed for folder, placed in active.items() if placed}

    def claims(self, folder: Folder) -> list[Claim]:
        """Everyone who holds exactly `folder`."""
        found = [Claim("root", folder, domain) for domain in self.roots.get(folder, ())]
        found += [Claim("installation", folder, one) for one in self.placed.get(folder, ())]
        if self.contents is not None:
            application = self.contents.applications.get(folder)
            found += [Claim("application", folder, application)] if application else []
            found += [Claim("placeholder", folder, page) for page in self.contents.placeholders(folder)]
            there = self.contents.folders.get(folder)
            found += [Claim("control file", folder, name) for name in (there.control if there else ())]
        return found

    def claimed_inside(self, folder: Folder) -> list[Folder]:
        """The folders strictly inside `folder` that a root, an installation or an application holds."""
        names = self._held
        if not folder:
            return [name for name in names if name]
        return names[bisect_left(names, folder + "/") : bisect_left(names, folder + "0")]

    def is_held(self, folder: Folder) -> bool:
        """Whether a root, an installation or an application holds exactly `folder`."""
        at = bisect_left(self._held, folder)
        return self._held[at : at + 1] == [folder]

    @cached_property
    def _held(self) -> list[Folder]:
        held = {*self.roots, *self.placed}
        if self.contents is not None:
            held |= {found.folder for found in self.contents.applications.values()}
        return sorted(held)
