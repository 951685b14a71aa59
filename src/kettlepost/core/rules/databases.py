"""Rules about databases: names, prefixes, and who uses which tables."""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Iterator

from kettlepost.core.layout import AccountLayout, TableUser
from kettlepost.core.messages import Words, say, series
from kettlepost.core.names import printable, quoted
from kettlepost.core.rules.consequences import BETWEEN_THE_SAME
from kettlepost.core.rules.cross_account import AccountSummary, AllAccounts, TablesNote
from kettlepost.core.rules.findings import Finding, LazyWays, Party, WayOut
from kettlepost.core.rules.going_live import going_live, has_gone_live
from kettlepost.core.rules.parties import application_party, installation_party, named
from kettlepost.core.rules.precedence import precedence_of
from kettlepost.core.rules.registry import RuleReach, account_rule, across
from kettlepost.core.rules.tables_apart import LONGEST, free_database, own_prefix, room_for_databases, tables_apart
from kettlepost.core.rules.ways_out import MANY, accepting, setting
from kettlepost.core.steps import Accept, CompleteEntry, Decide, Question


@account_rule("same-tables", "stop", "risk", reaches=RuleReach.DATABASE, follows={"same-folder": BETWEEN_THE_SAME})
def same_tables(layout: AccountLayout) -> Iterator[Finding]:
    """Two applications share a database and a table prefix.

    The second one finds the tables of the first: it refuses, or takes them for its own and
    upgrades them, and the first is broken. Names are compared as the account's database server
    compares them: PostgreSQL and SQLite take upper and lower case for one. A risk where that is known only
    by applications that are perhaps something else.

    Bad:

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example/shop"
        database = { name = "millb_site", prefix = "x1_" }

        [[installation]]
        application = "quillmoor"
        address = "millbrookrail.example/news"
        database = { name = "millb_site", prefix = "x1_" }

    Good:

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example/shop"
        database = { name = "millb_site", prefix = "bs4_" }

        [[installation]]
        application = "quillmoor"
        address = "millbrookrail.example/news"
        database = { name = "millb_site", prefix = "qm3_" }

    Ways out:

    - give the later one a prefix of its own, or better a database.
    """
    for users in layout.tables.shared.values():
        alike: dict[str, list[TableUser]] = defaultdict(list)
        for user in users:
            alike[user.prefix].append(user)
        for there in alike.values():
            if len(there) > 1 and not _is_rehearsal(there):
                yield _shared_tables(layout, users, there)


@across("same-tables", reaches=RuleReach.DATABASE)
def _same_tables_across(whole: AllAccounts) -> Iterator[Finding]:
    users: dict[tuple[str, str, str], list[tuple[AccountSummary, TablesNote]]] = defaultdict(list)
    for summary in whole.accounts.values():
        for note in summary.tables:
            users[note.server, note.name, note.prefix].append((summary, note))
    for (server, name, prefix), there in users.items():
        accounts = sorted({summary.account for summary, _ in there})
        if len(accounts) < 2:
            continue
        summary, note = there[0]
        yield Finding(
            at=note.address,
            title=say(
                "same-tables/title",
                addresses=(tables_note.address for _, tables_note in there),
                server=server,
                name=name,
                prefix=quoted(prefix),
            ),
            why=say("same-tables/why"),
            parties=[
                whole.party(other, "installation", note.number, note.what, note.address, "database")
                for other, note in there
            ],
            ways_out=[
                WayOut(
                    say("same-tables/give-each-accounts", accounts=accounts, server=server),
                    steps=[
                        CompleteEntry(other.account, "installation", note.number, ("database",))
                        for other, note in there[1:]
                    ],
                )
            ],
            account=summary.account,
            also_at=[name for name in accounts if name != summary.account],
            severity="stop",
        )


@account_rule("prefix-overlap", "risk", reaches=RuleReach.DATABASE)
def prefix_overlap(layout: AccountLayout) -> Iterator[Finding]:
    """In one database, one application's table prefix begins with another's.

    Whatever works on all tables that begin with the shorter prefix, a backup, a clean-up, the
    removal of the application, takes the tables of the other along. An empty prefix begins all.

    Bad:

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example/shop"
        database = { name = "millb_site", prefix = "bs_" }

        [[installation]]
        application = "quillmoor"
        address = "millbrookrail.example/news"
        database = { name = "millb_site", prefix = "bs_news_" }

    Good:

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example/shop"
        database = { name = "millb_site", prefix = "bs_" }

        [[installation]]
        application = "quillmoor"
        address = "millbrookrail.example/news"
        database = { name = "millb_site", prefix = "news_" }

    Ways out:

    - give the later one a prefix that begins with no other, or a database of its own.
    """
    for users in layout.tables.shared.values():
        for short, longer in _overlaps(users):
            alike = [user for user in users if user.prefix == short.prefix]
            first = min([*alike, *longer], key=lambda user: precedence_of(layout, user))
            moved = longer if first in alike else alike
            yield Finding(
                at=_where(users),
                title=say(
                    "prefix-overlap/title",
                    short=printable(short.name),
                    written=quoted(short.written),
                    longer=(quoted(user.written) for user in longer),
                ),
                why=say("prefix-overlap/why", short=short.shown, longer=(user.shown for user in longer)),
                parties=[_user_party(layout, short), *(_user_party(layout, user) for user in longer)],
                ways_out=tables_apart(layout, users, moved),
            )


@account_rule("shared-database", "note", reaches=RuleReach.DATABASE)
def shared_database(layout: AccountLayout) -> Iterator[Finding]:
    """Several applications keep their tables in one database.

    Prefixes keep them apart, but one login opens them all, one backup restores them all, and
    a break-in at one is a break-in at each.

    Bad:

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example/shop"
        database = { name = "millb_site", prefix = "bs4_" }

        [[installation]]
        application = "quillmoor"
        address = "millbrookrail.example/news"
        database = { name = "millb_site", prefix = "qm3_" }

    Good:

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example/shop"
        database = { name = "millb_shop", prefix = "bs4_" }

        [[installation]]
        application = "quillmoor"
        address = "millbrookrail.example/news"
        database = { name = "millb_news", prefix = "qm3_" }

    Ways out:

    - give those that are still planned a database of their own, while the package has room;
    - keep it, and back up before every update of either.
    """
    for users in layout.tables.shared.values():
        if len({user.prefix for user in users}) < len(users) or any(_overlaps(users)):
            continue
        planned = [
            user.installation
            for user in sorted(users, key=lambda user: precedence_of(layout, user))
            if user.installation and user.installation.state == "planned"
        ]
        moved = planned if len(planned) < len(users) else planned[1:]
        moved = moved[: room_for_databases(layout)]
        taken: list[str] = []
        for installation in moved:
            taken.append(free_database(layout, installation.address, taken))
        accepted = Accept(layout.name, "shared-database", _where(users))
        words = say("shared-database/keep-back-up")
        ways = [WayOut(words, remedy=accepting(accepted.rule, accepted.at), steps=[accepted])]
        if moved:
            changes = [
                setting(layout, installation, database={"name": name})
                for installation, name in zip(moved, taken, strict=True)
            ]
            names = series(
                (
                    say("shared-database/database", address=installation.address, name=name)
                    for installation, name in zip(moved, taken, strict=True)
                ),
                MANY,
            )
            ways.insert(0, WayOut(say("shared-database/give", names=names), changes))
        yield Finding(
            at=_where(users),
            title=say("shared-database/title", users=(user.shown for user in users), user=printable(users[0].name)),
            why=say("shared-database/why"),
            parties=[_user_party(layout, user) for user in users],
            ways_out=ways,
        )


@account_rule("default-prefix", "note", reaches=RuleReach.NONE)
def default_prefix(layout: AccountLayout) -> Iterator[Finding]:
    """A planned installation is to have the table prefix that its installer offers.

    Programs that try to break in name tables by it, and the next installation of the kind is
    offered the same.

    Bad:

        [[installation]]
        application = "wordpress"
        address = "millbrookrail.example/news"
        state = "planned"
        database = { name = "millb_news", prefix = "wp_" }

    Good:

        [[installation]]
        application = "wordpress"
        address = "millbrookrail.example/news"
        state = "planned"
        database = { name = "millb_news", prefix = "n4_" }

    Ways out:

    - choose a short prefix of its own.
    """
    for installation in layout.account.installations:
        if installation.state != "planned":
            continue
        offered = layout.application(installation).default_prefix
        if offered is None or installation.database is None or installation.database.prefix != offered:
            continue
        prefix = own_prefix(layout, installation)
        yield Finding(
            at=str(installation.address),
            title=say("default-prefix/title", **named(installation), offered=quoted(offered)),
            why=say("default-prefix/why"),
            parties=[installation_party(layout.account, installation, "database")],
            ways_out=[
                WayOut(
                    say("default-prefix/write-prefix", prefix=prefix),
                    [setting(layout, installation, database={"prefix": prefix})],
                )
            ],
        )


@account_rule("database-name", "stop", reaches=RuleReach.NONE)
def database_name(layout: AccountLayout) -> Iterator[Finding]:
    """A planned database or its user cannot be created under that name.

    Names on a shared server begin with the account's prefix, are of letters, digits and `_`,
    and have a limit: MySQL and MariaDB take 64 characters, and 32 for a user; PostgreSQL takes
    63 bytes and cuts off what is longer, so that two may become one.

    Bad:

        [account]
        name = "millbrook"
        database_prefix = "millb_"

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example/shop"
        state = "planned"
        database = { name = "the-shop", prefix = "bs4_" }

    Good:

        [account]
        name = "millbrook"
        database_prefix = "millb_"

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example/shop"
        state = "planned"
        database = { name = "millb_shop", prefix = "bs4_" }

    Ways out:

    - write a name that fits.
    """
    longest, longest_user = LONGEST[layout.account.settings.database_server]
    begin = layout.account.settings.database_prefix
    for installation in layout.account.installations:
        base = installation.database
        if base is None or installation.state != "planned":
            continue
        wrong = _name_fault("database", base.name, begin, longest)
        wrong_user = _name_fault("user", base.user, begin, longest_user) if base.user is not None else None
        wrong_prefix = (
            None
            if re.fullmatch(r"\w*", base.prefix, re.ASCII)
            else (say("database-name/prefix-more-than", prefix=quoted(base.prefix)))
        )
        faults = [fault for fault in (wrong, wrong_user, wrong_prefix) if fault]
        if not faults:
            continue
        values: dict[str, str] = {}
        if wrong:
            values["name"] = free_database(layout, installation.address)
        if wrong_user:
            values["user"] = free_database(layout, installation.address)[:longest_user]
        if wrong_prefix:
            values["prefix"] = own_prefix(layout, installation)
        words = ", ".join(f'{key} = "{value}"' for key, value in values.items())
        yield Finding(
            at=str(installation.address),
            title=say("database-name/title", **named(installation), faults=faults),
            why=say("database-name/why"),
            parties=[installation_party(layout.account, installation, "database")],
            ways_out=[
                WayOut(say("database-name/write", words=words), [setting(layout, installation, database=values)])
            ],
        )


@account_rule("database-differs", "risk", reaches=RuleReach.NONE)
def database_differs(layout: AccountLayout) -> Iterator[Finding]:
    """An application's own configuration names another database or prefix than the plan.

    The plan's backups and clean-ups go for tables that the site does not use, and the ones that
    it uses look free.

    Bad:

        [[installation]]
        application = "quillmoor"
        address = "millbrookrail.example"
        database = { name = "millb_pages", prefix = "qm3_" }

        # there: www/quill.php
        # there: www/moor/kernel.php
        # there: www/moor/settings.php = "<?php $ink_name = 'millb_old'; $ink_prefix = 'qm3_';"

    Good:

        [[installation]]
        application = "quillmoor"
        address = "millbrookrail.example"
        database = { name = "millb_pages", prefix = "qm3_" }

        # there: www/quill.php
        # there: www/moor/kernel.php
        # there: www/moor/settings.php = "<?php $ink_name = 'millb_pages'; $ink_prefix = 'qm3_';"

    Ways out:

    - write into the plan what the configuration says;
    - if the plan is right, the folder is not the installation that is meant.
    """
    if layout.contents is None:
        return
    for folder, placed in layout.present.items():
        found = layout.contents.applications.get(folder)
        installation = placed[0]
        if found is None or found.database is None or not found.database.name or installation.state != "live":
            continue
        if installation.database is None or found.application != installation.application:
            continue
        real = found.database
        differs = {"name": real.name} if real.name != installation.database.name else {}
        if real.prefix and real.prefix != installation.database.prefix:
            differs["prefix"] = real.prefix
        going = going_live(layout, installation) if differs else None
        if not differs or (going is not None and has_gone_live(layout, going)):
            continue  # which has a finding of its own
        said = series(f"{key} {quoted(value)}" for key, value in differs.items())
        planned = series(quoted(getattr(installation.database, key)) for key in differs)
        plain = all(value == printable(value) for value in differs.values())
        yield Finding(
            at=folder.shown,
            title=say(
                "database-differs/title",
                application=installation.application,
                folder=folder.shown,
                said=said,
                planned=planned,
            ),
            why=say("database-differs/why", really=_really(layout, real.name)),
            parties=[installation_party(layout.account, installation, "database"), application_party(layout, found)],
            ways_out=[
                WayOut(
                    say("database-differs/write", said=said, place=layout.account.place(installation, "database")),
                    [setting(layout, installation, database=dict(differs))] if plain else [],
                ),
                WayOut(
                    say("database-differs/plan-right-find"),
                    steps=[Decide(layout.name, Question.WHAT_IS_RIGHT, (str(installation.address),))],
                ),
            ],
        )


def _really(layout: AccountLayout, name: str) -> Words:
    """What the server itself says of the database that a site uses."""
    base = layout.databases.named(name) if layout.databases is not None else None
    return say("really/server", name=printable(name), number=base.number) if base is not None else ""


def _user_party(layout: AccountLayout, user: TableUser) -> Party:
    if user.installation is not None:
        return installation_party(layout.account, user.installation, "database")
    return application_party(layout, user.found) if user.found is not None else Party("", "")


def _is_rehearsal(users: list[TableUser]) -> bool:
    """Whether it is a staging site and the live one, which has a finding of its own."""
    installations = [user.installation for user in users if user.installation is not None]
    addresses = {installation.address for installation in installations}
    return len(users) == 2 and any(installation.staging_of in addresses for installation in installations)


def _shared_tables(layout: AccountLayout, users: list[TableUser], there: list[TableUser]) -> Finding:
    keeper, *others = sorted(there, key=lambda user: precedence_of(layout, user))
    return Finding(
        at=_where(there),
        title=say(
            "shared-tables/title",
            others=(user.shown for user in [keeper, *others]),
            there=printable(there[0].name),
            written=quoted(there[0].written),
        ),
        why=say("shared-tables/why"),
        parties=[_user_party(layout, user) for user in [keeper, *others]],
        ways_out=LazyWays(lambda: tables_apart(layout, users, others)),
        severity="stop" if sum(user.found is None or not user.found.perhaps for user in there) > 1 else "risk",
    )


def _overlaps(users: list[TableUser]) -> Iterator[tuple[TableUser, list[TableUser]]]:
    """Each prefix that begins others in the same database, with those, the outermost first."""
    ordered = sorted(users, key=lambda user: user.prefix)
    n = 0
    while n < len(ordered):
        short, longer = ordered[n], []
        n += 1
        while n < len(ordered) and ordered[n].prefix.startswith(short.prefix):
            if ordered[n].prefix != short.prefix:
                longer.append(ordered[n])
            n += 1
        if longer:
            yield short, longer


def _name_fault(what: str, name: str, begin: str, longest: int) -> Words | None:
    if not re.fullmatch(r"\w+", name, re.ASCII):
        return say("name-fault/more-than-letters", what=what, name=quoted(name))
    if len(name) > longest:
        return say(
            "name-fault/characters-server-takes", what=what, name=quoted(name), length=len(name), longest=longest
        )
    if not name.startswith(begin):
        return say("name-fault/lacks-accounts-prefix", what=what, name=quoted(name), begin=quoted(begin))
    return None


def _where(users: list[TableUser]) -> str:
    return printable(users[0].name)
