"""Rules about databases as a server has them, held against who uses them."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from kettlepost.core.layout import AccountLayout, TableUser, retired_users
from kettlepost.core.messages import say, series
from kettlepost.core.names import printable
from kettlepost.core.plan import RIGHTS, Database, Installation
from kettlepost.core.remedies import Action, Remedy
from kettlepost.core.rules.findings import Finding, Party, WayOut
from kettlepost.core.rules.parties import installation_party, named
from kettlepost.core.rules.registry import RuleReach, account_rule
from kettlepost.core.rules.ways_out import completing, setting
from kettlepost.core.steps import ChangeRights, Confirm, Decide, DropTables, KeepTables, LookAgain, Question, Step
from kettlepost.core.survey import SeenDatabase, SeenDatabases, SeenTables


@account_rule("database-missing", "risk", reaches=RuleReach.ACCOUNT)
def database_missing(layout: AccountLayout) -> Iterator[Finding]:
    """A live installation's database, its tables or its database user are not on the server.

    The plan names another than the site works on, it was dropped, or the site has never been set up. What rests
    on the plan, backups and what may be removed, is then about nothing.

    Bad:

        [[installation]]
        application = "quillmoor"
        address = "millbrookrail.example"
        database = { name = "mill_pages", prefix = "qm3_" }

        # there: www/quill.php
        # there: www/moor/kernel.php
        # tables: mill_other = "qm3_pages"

    Good:

        [[installation]]
        application = "quillmoor"
        address = "millbrookrail.example"
        database = { name = "mill_pages", prefix = "qm3_", user = "mill_pages" }

        # there: www/quill.php
        # there: www/moor/kernel.php
        # tables: mill_pages = "qm3_pages"
        # login: mill_pages = "mill_pages"

    Ways out:

    - write down the database that the site works on;
    - if the site is gone, mark it retired; if it is still to come, planned.
    """
    seen = layout.databases
    for user in layout.tables.users if seen is not None else ():
        installation = user.installation
        if seen is None or installation is None or installation.state != "live" or user.database[0]:
            continue
        base = seen.named(user.name)
        if base is None and not seen.is_whole:
            continue
        login = user.login
        name, prefix = printable(user.name), printable(user.written)
        if base is None:
            what = say("database-missing/database", name=name)
        elif not (base.beginning(user.written) or _hides(base, user.written)):
            what = (
                say("database-missing/table-begins", prefix=prefix, name=name)
                if prefix
                else say("database-missing/table", name=name)
            )
        elif login and seen.knows_logins and all(one.name != login for one in seen.logins):
            what = say("database-missing/user", login=printable(login))
        else:
            continue
        yield Finding(
            at=str(installation.address),
            title=say("database-missing/title", **named(installation), name=name, what=what),
            why=say("database-missing/why"),
            parties=[installation_party(layout.account, installation, "database"), _server_party(seen)],
            ways_out=[
                WayOut(
                    say("database-missing/look-sites-configuration"),
                    steps=[completing(layout, installation, "database")],
                ),
                WayOut(say("database-missing/write-state-retired"), [setting(layout, installation, state="retired")]),
            ],
        )


@account_rule("database-taken", "stop", reaches=RuleReach.ACCOUNT)
def database_taken(layout: AccountLayout) -> Iterator[Finding]:
    """Tables with the prefix of a planned installation are in its database already.

    They are somebody's: its installer takes them for its own and upgrades them, writes over them, or refuses.

    Bad:

        [[installation]]
        application = "quillmoor"
        address = "millbrookrail.example"
        state = "planned"
        database = { name = "mill_pages", prefix = "qm3_" }

        # tables: mill_pages = "qm3_pages"

    Good:

        [[installation]]
        application = "quillmoor"
        address = "millbrookrail.example"
        state = "planned"
        database = { name = "mill_pages", prefix = "qm3_" }

        # tables: mill_pages = "other_pages"

    Ways out:

    - take another prefix, or another database;
    - if it is installed already, take the survey again, and confirm it.
    """
    seen = layout.databases
    for user in layout.tables.users if seen is not None else ():
        installation = user.installation
        if seen is None or installation is None or installation.state != "planned" or user.database[0]:
            continue
        base = seen.named(user.name)
        if base is None or installation.number in layout.deployed or not base.beginning(user.written):
            continue
        if installation.staging_of is not None:
            continue  # a rehearsal begins with a copy
        if any(_is_live(other) and other.prefix == user.prefix for other in layout.tables.by_database[user.database]):
            continue  # two that share tables are told of as that
        number = base.beginning(user.written)
        prefix = say("database-taken/begin", number=number, written=printable(user.written)) if user.written else ""
        yield Finding(
            at=str(installation.address),
            title=say(
                "database-taken/title",
                application=installation.application,
                user=printable(user.name),
                address=installation.address,
                number=number,
                prefix=prefix,
            ),
            why=say("database-taken/why"),
            parties=[installation_party(layout.account, installation, "database"), _server_party(seen)],
            ways_out=[
                WayOut(
                    say("database-taken/write-another-prefix"), steps=[completing(layout, installation, "database")]
                ),
                WayOut(
                    say("database-taken/installed-already-take"),
                    remedy=layout.surveying,
                    steps=[LookAgain(layout.name), Confirm(layout.name, str(installation.address))],
                ),
            ],
        )


def _is_live(user: TableUser) -> bool:
    return user.found is not None or (user.installation is not None and user.installation.state == "live")


@account_rule("login-too-wide", "risk", reaches=RuleReach.ACCOUNT)
def login_too_wide(layout: AccountLayout) -> Iterator[Finding]:
    """An installation's database user may do more than its own databases want.

    Whoever breaks into the one site reads or writes what is in the others' databases.

    Bad:

        [[installation]]
        application = "quillmoor"
        address = "millbrookrail.example"
        database = { name = "mill_pages", prefix = "qm3_", user = "mill_pages" }

        # tables: mill_pages = "qm3_pages"
        # login: mill_pages = "mill_pages mill_shop"

    Good:

        [[installation]]
        application = "quillmoor"
        address = "millbrookrail.example"
        database = { name = "mill_pages", prefix = "qm3_", user = "mill_pages" }

        # tables: mill_pages = "qm3_pages"
        # login: mill_pages = "mill_pages"

    Ways out:

    - take back what it does not want, or give the installation a user of its own.
    """
    seen = layout.databases
    for login in seen.logins if seen is not None else ():
        users = [user for user in layout.tables.users if user.login == login.name]
        own = {name for user in users for name in (user.name, user.name.lower())}
        wide = [name for name, rights in login.databases.items() if name not in own and set(rights) - _OF_ALL]
        if seen is None or not users or not (wide or login.everywhere):
            continue
        name, whose = printable(login.name), series((user.shown for user in users), 4)
        where = (
            say("login-too-wide/all-databases-server") if login.everywhere else series(map(printable, sorted(wide)), 4)
        )
        installed = [user.installation for user in users if user.installation is not None]
        yield Finding(
            at=name,
            title=say("login-too-wide/title", name=name, whose=whose, where=where),
            why=say("login-too-wide/why"),
            parties=[
                *(installation_party(layout.account, installation, "database") for installation in installed),
                _server_party(seen),
            ],
            ways_out=[
                WayOut(
                    say("login-too-wide/take-back-does", login=printable(login.name)),
                    steps=[
                        *(
                            ChangeRights(layout.name, login.name, base, takes=("ALL",))
                            for base in sorted(wide) or ("*",)
                        ),
                        LookAgain(layout.name, databases=True),
                    ],
                ),
                WayOut(
                    say("login-too-wide/give-installation-database"),
                    steps=[completing(layout, one, "database") for one in installed],
                ),
            ],
        )


@account_rule("login-too-narrow", "risk", reaches=RuleReach.ACCOUNT)
def login_too_narrow(layout: AccountLayout) -> Iterator[Finding]:
    """An installation's database user may do less in its database than the application wants.

    Its installer stops half-way, or the next update does, with tables that are neither old nor new.

    Bad:

        [[installation]]
        application = "quillmoor"
        address = "millbrookrail.example"
        database = { name = "mill_pages", prefix = "qm3_", user = "mill_pages" }

        # tables: mill_pages = "qm3_pages"
        # login: mill_pages = "mill_pages:SELECT,INSERT,UPDATE,DELETE"

    Good:

        [[installation]]
        application = "quillmoor"
        address = "millbrookrail.example"
        database = { name = "mill_pages", prefix = "qm3_", user = "mill_pages" }

        # tables: mill_pages = "qm3_pages"
        # login: mill_pages = "mill_pages:SELECT,INSERT,UPDATE,DELETE,CREATE,ALTER,DROP,INDEX"

    Ways out:

    - allow it what the application wants, in that database alone.
    """
    seen = layout.databases
    for user in layout.tables.users if seen is not None else ():
        installation, login = user.installation, user.login
        if seen is None or installation is None or user.database[0] or not login or seen.named(user.name) is None:
            continue
        own = [one for one in seen.logins if one.name == login]
        allowed = {right for one in own for right in (*one.everywhere, *one.databases.get(user.name, ()))}
        wanted = ("CONNECT",) if seen.server == "postgresql" else RIGHTS
        lacking = [right for right in wanted if right not in allowed]
        if not own or not lacking or allowed & _EVERYTHING:
            continue
        name, base = printable(login), printable(user.name)
        yield Finding(
            at=name,
            title=say("login-too-narrow/title", name=name, user=user.shown, lacking=lacking, base=base),
            why=say("login-too-narrow/why"),
            parties=[installation_party(layout.account, installation, "database"), _server_party(seen)],
            ways_out=[
                WayOut(
                    say(
                        "login-too-narrow/allow-wants-alone", name=name, application=installation.application, base=base
                    ),
                    remedy=Remedy.of(Action.MAKE_DATABASES, str(installation.address)),
                    steps=[
                        ChangeRights(layout.name, login, user.name, tuple(lacking)),
                        LookAgain(layout.name, databases=True),
                    ],
                )
            ],
        )


_EVERYTHING = frozenset(("ALL PRIVILEGES", "ALL", "SUPERUSER"))
_OF_ALL = frozenset(("CONNECT", "TEMPORARY", "USAGE"))
"""What everybody may do on every database, unless it was taken back."""


@account_rule("retired-tables", "note", reaches=RuleReach.ACCOUNT)
def retired_tables(layout: AccountLayout) -> Iterator[Finding]:
    """The tables of a retired installation are still there.

    They hold what people gave to a site that nobody looks after any more, and count for the package.

    Bad:

        [[installation]]
        application = "quillmoor"
        address = "millbrookrail.example/old"
        state = "retired"
        database = { name = "mill_old", prefix = "qm3_" }

        # tables: mill_old = "qm3_pages qm3_users"

    Good:

        [[installation]]
        application = "quillmoor"
        address = "millbrookrail.example/old"
        state = "retired"
        database = { name = "mill_old", prefix = "qm3_" }

        # tables: mill_new = ""

    Ways out:

    - keep a dump of them, then drop them.
    """
    seen = layout.databases
    for installation, name, prefix in retired_users(layout) if seen is not None else ():
        base = seen.named(name) if seen is not None else None
        if seen is None or base is None or _claimed(layout, seen, base, prefix):
            continue
        groups = [group for group in base.tables if group.prefix.startswith(prefix)]
        number = sum(group.number for group in groups)
        if number:
            yield _left(layout, installation, base, groups, number)


def _left(
    layout: AccountLayout, installation: Installation, base: SeenDatabase, groups: list[SeenTables], number: int
) -> Finding:
    size = sum(max(group.bytes, 0) for group in groups)
    name = printable(base.name)
    unsure = list(layout.tables.unsure.values())
    whole = number == base.number and not _users_of(layout, base) and not unsure
    what = say("left/database", name=name) if whole else say("left/tables-leave-others", name=name)
    gained = say("left/gives-package-one") if whole else ""
    until = say("left/once-known-database", unsure=unsure) if unsure else ""
    return Finding(
        at=str(installation.address),
        title=say("left/title", number=number, **named(installation), name=name, size=size),
        why=say("left/why"),
        parties=[installation_party(layout.account, installation, "database")],
        ways_out=[
            WayOut(
                say("left/keep-dump-look", what=what, gained=gained, until=until),
                steps=[Decide(layout.name, Question.WHOSE, (base.name,))]
                if unsure
                else _dropped(layout, base, groups, whole),
            )
        ],
    )


@account_rule("tables-unclaimed", "note", reaches=RuleReach.ACCOUNT)
def tables_unclaimed(layout: AccountLayout) -> Iterator[Finding]:
    """Tables that no installation and no application found in the folders uses.

    They are of a site that was removed without them, or of one that nobody wrote down. Nobody knows whether
    they may go, and every dump of the database carries them along.

    Bad:

        [[installation]]
        application = "quillmoor"
        address = "millbrookrail.example"
        database = { name = "mill_pages", prefix = "qm3_" }

        # tables: mill_pages = "qm3_pages wp_posts"

    Good:

        [[installation]]
        application = "quillmoor"
        address = "millbrookrail.example"
        database = { name = "mill_pages", prefix = "qm3_" }

        # tables: mill_pages = "qm3_pages qm3_users"

    Ways out:

    - find out whose they are, and write that down;
    - if they are nobody's, keep a dump of them, then drop them.
    """
    seen = layout.databases
    for base in seen.databases if seen is not None else ():
        if seen is None or not base.tables:
            continue
        groups = [group for group in _of_nobody(layout, seen, base) if _twin(layout, base, group) is None]
        if groups and _users_of(layout, base):
            yield _unclaimed(layout, seen, base, groups)


def _of_nobody(layout: AccountLayout, seen: SeenDatabases, base: SeenDatabase) -> list[SeenTables]:
    """The tables that no installation uses, and none that is retired did."""
    groups = [group for group in base.tables if not _claimed(layout, seen, base, group.prefix)]
    return [group for group in groups if not _is_retired(layout, base, group)]


@account_rule("second-tables", "note", reaches=RuleReach.ACCOUNT)
def second_tables(layout: AccountLayout) -> Iterator[Finding]:
    """A database has the tables of an application twice, and the plan knows of one installation.

    The second ones are of a rehearsal, of an earlier try, or of a site that nobody wrote down. Who looks for the
    data of the first may well find, change or drop those of the other.

    Bad:

        [[installation]]
        application = "quillmoor"
        address = "millbrookrail.example"
        database = { name = "mill_pages", prefix = "qm3_" }

        # tables: mill_pages = "qm3_pages qm3_users qm4_pages qm4_users"

    Good:

        [[installation]]
        application = "quillmoor"
        address = "millbrookrail.example"
        database = { name = "mill_pages", prefix = "qm3_" }

        # tables: mill_pages = "qm3_pages qm3_users"

    Ways out:

    - find out whose the second ones are, and write that down;
    - if they are nobody's, keep a dump of them, then drop them.
    """
    seen = layout.databases
    for base in seen.databases if seen is not None else ():
        if seen is None:
            continue
        for group in _of_nobody(layout, seen, base):
            twin = _twin(layout, base, group)
            if twin is None or twin.installation is None:
                continue
            name, begin = printable(base.name), printable(group.prefix)
            yield Finding(
                at=name,
                title=say(
                    "second-tables/title",
                    name=name,
                    application=twin.installation.application,
                    twin=twin.shown,
                    written=printable(twin.written),
                    number=group.number,
                    begin=begin,
                ),
                why=say("second-tables/why"),
                parties=[installation_party(layout.account, twin.installation, "database"), _server_party(seen)],
                ways_out=[
                    WayOut(
                        say("second-tables/find-out-whose", begin=begin),
                        steps=[Decide(layout.name, Question.WHOSE, (f"{base.name} {group.prefix}",))],
                    ),
                    WayOut(
                        say("second-tables/they-nobodys-keep", begin=begin),
                        steps=_dropped(layout, base, [group], False),
                    ),
                ],
            )


def _twin(layout: AccountLayout, base: SeenDatabase, group: SeenTables) -> TableUser | None:
    """The installation in whose tables those of nobody have their likes, name by name."""
    names = {name[len(group.prefix) :] for name in group.names}
    for user in layout.tables.by_database.get(("", base.name), ()) if group.prefix else ():
        own = {name[len(user.written) :] for one in base.tables if one.prefix == user.written for name in one.names}
        if user.installation is not None and len(own & names) >= min(len(own), len(names), 2) > 1:
            return user
    return None


@account_rule("database-unused", "note", reaches=RuleReach.ACCOUNT)
def database_unused(layout: AccountLayout) -> Iterator[Finding]:
    """A database that no installation and no application found in the folders uses.

    It counts for the package, and nobody knows whether it may go.

    Bad:

        # tables: mill_forgotten = "wp_posts wp_users"

    Good:

        [[installation]]
        application = "quillmoor"
        address = "millbrookrail.example"
        state = "planned"
        database = { name = "mill_forgotten", prefix = "qm3_" }

        # tables: mill_forgotten = ""

    Ways out:

    - find out whose it is, and write that down;
    - if it is nobody's, keep a dump of it, then drop it.
    """
    seen = layout.databases
    for base in seen.databases if seen is not None else ():
        if seen is None or _users_of(layout, base) or _is_named(layout, base):
            continue
        yield _unclaimed(layout, seen, base, base.tables)


def _unclaimed(layout: AccountLayout, seen: SeenDatabases, base: SeenDatabase, groups: list[SeenTables]) -> Finding:
    """Tables, or a whole database, of nobody."""
    name, number = printable(base.name), sum(group.number for group in groups)
    whole = number == base.number
    named = [f"{printable(group.prefix) or printable(group.names[0])} ({group.number:,})" for group in groups]
    shown = series(named, 6) if named else ""
    what = (
        say("unclaimed/database", name=name)
        if whole
        else say("unclaimed/tables", number=number, name=name, shown=shown)
    )
    unsure = list(layout.tables.unsure.values())
    is_one = whole or number == 1
    why = say("unclaimed/why", is_one=is_one, is_whole=whole)
    if unsure:
        why += say("unclaimed/known-database-uses", unsure=unsure)
    inside = say("unclaimed/inside", number=number, shown=shown) if whole and groups else None
    return Finding(
        at=name,
        title=say("unclaimed/title", what=what, is_one=is_one, inside=inside),
        why=why,
        parties=[_server_party(seen)],
        ways_out=[
            WayOut(say("unclaimed/find-out-whose"), steps=[Decide(layout.name, Question.WHOSE, (base.name,))]),
            WayOut(
                say("unclaimed/nobodys-keep-dump"),
                steps=[Decide(layout.name, Question.WHOSE, (base.name,))]
                if unsure
                else _dropped(layout, base, groups, whole),
            ),
        ],
    )


def _dropped(layout: AccountLayout, base: SeenDatabase, groups: Sequence[SeenTables], is_whole: bool) -> list[Step]:
    """Keep a dump of some tables of a database, or of all of it, and drop them."""
    own = [Database(base.name, group.prefix) for group in groups] if not is_whole else [Database(base.name)]
    kept: list[Step] = [KeepTables(layout.name, one, is_whole) for one in own]
    return [*kept, *(DropTables(layout.name, one, is_whole) for one in own), LookAgain(layout.name, databases=True)]


def _users_of(layout: AccountLayout, base: SeenDatabase) -> list[str]:
    """Who uses a database of the account's own server."""
    return [
        user.shown for key, users in layout.tables.by_database.items() for user in users
        if not key[0] and key[1] in (base.name, base.name.lower())
    ]  # fmt: skip


def _claimed(layout: AccountLayout, seen: SeenDatabases, base: SeenDatabase, prefix: str) -> bool:
    """Whether tables of a prefix are somebody's, or may be, as somebody's prefix is longer."""
    folds = seen.server == "postgresql"
    for key, users in layout.tables.by_database.items():
        if key[0] or key[1] not in (base.name, base.name.lower()):
            continue
        for user in users:
            one, other = (user.prefix, prefix.lower()) if folds else (user.written, prefix)
            if other.startswith(one) or (one.startswith(other) if other else "_" not in one):
                return True
    return False


def _is_retired(layout: AccountLayout, base: SeenDatabase, group: SeenTables) -> bool:
    """Whether another rule tells of tables, as those of what is retired."""
    return any(
        name in (base.name, base.name.lower()) and group.prefix.startswith(prefix)
        for _, name, prefix in retired_users(layout)
    )


def _is_named(layout: AccountLayout, base: SeenDatabase) -> bool:
    """Whether a database is known at all, such as for what is retired."""
    named = [one.database.name for one in layout.account.installations if one.database is not None]
    named += [name for _, name, _ in retired_users(layout)]
    return any(name in (base.name, base.name.lower()) for name in named)


def _hides(base: SeenDatabase, prefix: str) -> bool:
    """Whether a prefix is longer than one by which tables were put together, so that it cannot be told."""
    return any(group.prefix and prefix.startswith(group.prefix) for group in base.tables)


def _server_party(seen: SeenDatabases) -> Party:
    where = f"{printable(seen.source)}, {seen.taken[:10]}"
    return Party("seen", printable(seen.server or "database server"), found=where)
