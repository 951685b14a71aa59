"""Sentences: rules about databases as a server has them, held against who uses them."""

SENTENCES = {
    "unclaimed/title": "{what} {is_whole:?is|are} of no installation that is known{inside}",
    "unclaimed/why": ("nobody knows whether {is_whole:?it|they} may go{is_whole:?, and it counts for the package|}"),
    "unclaimed/inside": ": {number:=table}, {shown}",
    "unclaimed/database": "the database {name}",
    "unclaimed/text": "{number:=table} in {name}, {shown},",
    "unclaimed/known-database-uses": "; of {unsure:4} it is not known which database it uses",
    "unclaimed/find-out-whose": (
        "find out whose that is, and write it down as database = {{ name, prefix }} of its installation"
    ),
    "unclaimed/nobodys-keep-dump": (
        "if it is nobody's, keep a dump of it, look whether that can be read, then drop it"
    ),
    "left/title": (
        "{number:=table} of {application} at {address}, which is retired, {number:?is|are} still in {name} "
        "({size:,} bytes)"
    ),
    "left/why": "they hold what people gave to a site that nobody looks after any more",
    "left/database": "the database {name}",
    "left/tables-leave-others": "its tables in {name}, and leave the others",
    "left/gives-package-one": ", which gives the package one database back",
    "left/once-known-database": ", once it is known which database {unsure:4} uses",
    "left/keep-dump-look": "keep a dump of {what}, look whether it can be read, then drop that{gained}{until}",
    "database-missing/title": "{application} at {address} is to use {name}: the server has not {what}",
    "database-missing/why": "backups, and what may be removed, rest on a database that is not there",
    "database-missing/database": "the database {name}",
    "database-missing/table-begins": "a table that begins with {prefix} in {name}",
    "database-missing/table": "a table in {name}",
    "database-missing/user": "its user {login}",
    "database-missing/look-sites-configuration": (
        "look at the site's configuration, and write down the database that it works on"
    ),
    "database-missing/write-state-retired": (
        'write state = "retired" if it is gone, or "planned" if it is still to come'
    ),
    "database-taken/title": (
        "{application} is to use {user} for {address}, where {number:=table} of its prefix {number:?is|are} "
        "already{prefix}"
    ),
    "database-taken/why": "its installer takes them for its own, writes over them, or refuses",
    "database-taken/begin": ", which begin with {written}",
    "database-taken/write-another-prefix": "write another prefix, or another database, which nobody has yet",
    "database-taken/installed-already-take": "if it is installed already, take the survey again, and confirm it",
    "login-too-wide/title": "the database user {name}, by which {whose} logs in, may work on {where} as well",
    "login-too-wide/why": "whoever breaks into that site has what is in the others' databases",
    "login-too-wide/all-databases-server": "all databases of the server",
    "login-too-wide/take-back-does": "take back what {login} does not want, once nobody else uses it for that",
    "login-too-wide/give-installation-database": "give the installation a database user of its own",
    "login-too-narrow/title": "the database user {name}, by which {user} logs in, may not {lacking} in {base}",
    "login-too-narrow/why": "an installer or an update that wants it stops half-way",
    "login-too-narrow/allow-wants-alone": "allow {name} what {application} wants, in {base} alone",
    "second-tables/title": (
        "{name} has the tables of {application} twice: those of {twin} begin with {written}, and {number:=table} "
        "of the same names with {begin}"
    ),
    "second-tables/why": (
        "they are of a site that nobody wrote down, or of an earlier try; the two are easily taken for one another"
    ),
    "second-tables/find-out-whose": "find out whose those with {begin} are, and write that down",
    "second-tables/they-nobodys-keep": (
        "if they are nobody's, keep a dump of those with {begin}, look whether it can be read, then drop them"
    ),
}
