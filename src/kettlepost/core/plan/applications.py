"""The records of applications: by what their files are known, what they need, and what their pages show."""

from __future__ import annotations

from typing import Literal

from msgspec import Struct, field

RIGHTS = ("SELECT", "INSERT", "UPDATE", "DELETE", "CREATE", "ALTER", "DROP", "INDEX")
"""What every application does with its own tables."""
FURTHER_RIGHTS = ("CREATE TEMPORARY TABLES", "LOCK TABLES", "REFERENCES")
"""What one may do as well whose entry does not say."""
ALL_DATA = "all"
OTHER_DATA = "other"
"""All the data of an application, and what none of its kinds names."""


class VersionMark(Struct, forbid_unknown_fields=True):
    """Where an application writes its version.

    Keys:
        file: the file, from the application's folder
        pattern: a regular expression whose first group is the version
    """

    file: str
    pattern: str


class ConfigMark(Struct, forbid_unknown_fields=True):
    """An application's configuration file, and the keys under which it names its database and its address.

    Keys:
        file: the file, from the application's folder
        name: the key of the database's name, or several with | between
        user: the key of the database's user
        host: the key of the database's server
        prefix: the key of the table prefix
        address: the key of the address at which it says it is
        dsn: the key of an address of the database, such as mysql://user@host/name
        call: a function that is called with them, and what each argument is, such as "connect host user - name"
        above: whether it is looked for in the folder above, too
        ships: whether a release brings it along, so that it says nothing of the application's state
        samples: values of the database's name or user that stand in it before it is set up
    """

    file: str
    name: str | None = None
    user: str | None = None
    host: str | None = None
    prefix: str | None = None
    address: str | None = None
    dsn: str | None = None
    call: str | None = None
    above: bool = False
    ships: bool = False
    samples: list[str] = field(default_factory=list)


class AddedFile(Struct, forbid_unknown_fields=True):
    """A file that is written, as a whole.

    Keys:
        file: the file, from the application's folder
        lines: what is in it
    """

    file: str
    lines: list[str]


class DataKind(Struct, forbid_unknown_fields=True):
    """Data of an application that belong together, such as what is written and what is bought.

    Keys:
        name: what it is called
        tables: the tables, without the prefix
        folders: the folders with what belongs to them, from the application's folder
    """

    name: str
    tables: list[str] = field(default_factory=list)
    folders: list[str] = field(default_factory=list)


class Needs(Struct, forbid_unknown_fields=True):
    """What an application needs to run.

    Keys:
        php: versions of PHP, such as ">=7.4" or ">=8.1, <8.4"
        database: kinds of database servers, of which it wants one
        collation: the order of its database's texts, whose beginning is the character set, such as utf8mb4_bin
        rights: what its database user is to be allowed besides reading, writing and changing its tables, such as \
"CREATE TEMPORARY TABLES"; an empty list for nothing else
    """

    php: str | None = None
    database: list[str] = field(default_factory=list)
    collation: str | None = None
    rights: list[str] | None = None


class PublicMarks(Struct, forbid_unknown_fields=True):
    """By what an application is known to whoever opens its pages; each of them tells it from all others.

    Keys:
        generator: how what its pages name as the program that wrote them begins, such as "WordPress"
        paths: parts of the addresses on its own host that its pages point to, such as "/wp-includes/"
        cookies: names of cookies that it sets; `*` stands for any text
        headers: headers that it sends, as "Name: text", of which the text is a part
        says: texts that stand in the source of its pages
        installer: texts that stand in the source of the pages that set it up
        fresh: texts that stand in the source of its pages for as long as they are as they were installed
    """

    generator: list[str] = field(default_factory=list)
    paths: list[str] = field(default_factory=list)
    cookies: list[str] = field(default_factory=list)
    headers: list[str] = field(default_factory=list)
    says: list[str] = field(default_factory=list)
    installer: list[str] = field(default_factory=list)
    fresh: list[str] = field(default_factory=list)


class Application(Struct, forbid_unknown_fields=True):
    """An application that can be installed, and the public files by which it is known.

    Keys:
        id: what the plan calls it
        title: its name for people
        purpose: what it is for, in a word
        all_of: files and folders (with a slash at the end) that every release has
        parts: more files that every release has, spread over its folders, by which half an upload is known
        any_of: of these at least one
        none_of: of these none
        version: where it writes its version
        index_files: the files that answer for its folder
        folders: its own folders
        segments: the first path segments that it answers itself without a folder of that name
        admin: the path at which it is looked after
        config: its configuration file, absent where it was never set up
        database: whether it wants a database
        default_prefix: the table prefix that its installer offers
        prefix_in: columns whose values begin with the table prefix, as "table.column", the table without its prefix; \
behind = which values, with | between, where not all do
        longest_password: the most characters that it takes as a password of its administrator
        answers_below: whether it answers every path below its address
        wants_new_folder: whether its installer wants a folder that does not exist yet
        leftovers: what is to be removed once it is installed, and no update brings back
        identifiers: columns, such as posts.guid behind the prefix, whose addresses are names that no move changes
        front_file: the file by which it may answer at a root while its files lie in a subfolder
        document_root: its folder to which an address is to lead
        needs: what it needs to run
        single_file: a regular expression for the name of a file that is all of it, with the version as its group
        proved: the release against which the entry was held
        newest: the newest release that you know of
        checksum: the SHA-256 of its archive
        files: how many files it has
        set_up: the path of its own set-up, which is opened once its files are there
        sample: a file that is copied to that of `config`, and filled in
        writable: files and folders that it has to write to
        asks: what its installer asks for, of title and language
        shows: by what it is known to whoever opens its pages
        stops_mail: a file by which it sends no mail, for a copy that is only tried out
        data: its data by kinds, of which each may be taken from a copy that was tried out, or kept
    """

    id: str
    title: str | None = None
    purpose: str | None = None
    all_of: list[str] = field(default_factory=list)
    parts: list[str] = field(default_factory=list)
    any_of: list[str] = field(default_factory=list)
    none_of: list[str] = field(default_factory=list)
    version: VersionMark | None = None
    index_files: list[str] = field(default_factory=lambda: ["index.php"])
    folders: list[str] = field(default_factory=list)
    segments: list[str] = field(default_factory=list)
    admin: str | None = None
    config: ConfigMark | None = None
    database: bool = False
    default_prefix: str | None = None
    prefix_in: list[str] = field(default_factory=list)
    longest_password: int | None = None
    answers_below: bool = False
    wants_new_folder: bool = False
    leftovers: list[str] = field(default_factory=list)
    identifiers: list[str] = field(default_factory=list)
    front_file: str | None = None
    document_root: str | None = None
    needs: Needs | None = None
    single_file: str | None = None
    proved: str | None = None
    newest: str | None = None
    checksum: str | None = None
    files: int | None = None
    set_up: str | None = None
    sample: str | None = None
    writable: list[str] = field(default_factory=list)
    asks: list[Literal["title", "language"]] = field(default_factory=list)
    shows: PublicMarks | None = None
    stops_mail: AddedFile | None = None
    data: list[DataKind] = field(default_factory=list)

    @property
    def shown(self) -> str:
        return self.title or self.id

    @property
    def database_rights(self) -> tuple[str, ...]:
        """What the user of its database is to be allowed, by the names of MySQL."""
        own = self.needs.rights if self.needs is not None else None
        if own is None:
            return (*RIGHTS, *FURTHER_RIGHTS)
        return (*RIGHTS, *(right.upper() for right in own if right.upper() not in RIGHTS))

    @property
    def is_unproved(self) -> bool:
        """Whether it comes with the program, and no real release was held against it."""
        return self.proved == ""
