"""Sentences: rules about databases."""

SENTENCES = {
    "shared-database/title": "{users:12} share the database {user}",
    "shared-database/why": "one login opens all of it, and a break-in or a restored backup at one concerns each",
    "shared-database/keep-back-up": "keep it, and back up the whole database before every update of either",
    "shared-database/database": "{address} the database {name}",
    "shared-database/give": "give {names}",
    "really/server": "; the server has {name} with {number:=table}",
    "name-fault/more-than-letters": "the {what} {name} has more than letters, digits and _",
    "name-fault/characters-server-takes": ("the {what} {name} has {name2} characters, and the server takes {longest}"),
    "name-fault/lacks-accounts-prefix": "the {what} {name} lacks the account's prefix {begin}",
    "database-name/title": "{application} at {address}: {faults:;}",
    "database-name/why": "the database cannot be created under that name, or is created under another",
    "database-name/prefix-more-than": "the prefix {prefix} has more than letters, digits and _",
    "database-name/write": "write {words}",
    "shared-tables/title": "{others:12} use the same tables: database {there}, prefix {written}",
    "shared-tables/why": (
        "the one that is set up later takes the tables of the other for its own, and upgrades or empties them"
    ),
    "same-tables/title": "{addresses:12} use the same tables: server {server}, database {name}, prefix {prefix}",
    "same-tables/why": "the one that is set up later takes the tables of the other for its own",
    "same-tables/give-each-accounts": "give each of the accounts {accounts} a database of its own on {server}",
    "default-prefix/title": "{application} at {address} is to have the prefix {offered} that everybody has",
    "default-prefix/why": "it is the first that a break-in tries, and the one the next installer offers again",
    "default-prefix/write-prefix": 'write prefix = "{prefix}"',
    "database-differs/title": "{application} in {folder} uses the database {said}, not {planned} as planned",
    "database-differs/why": "backups and clean-ups by the plan go for other tables than the site uses{really}",
    "database-differs/write": "write {said} at {place}",
    "database-differs/plan-right-find": "if the plan is right, find out which installation lies there",
    "prefix-overlap/title": "in database {short} the prefix {written} begins {longer:12}",
    "prefix-overlap/why": "whatever works on all tables of {short} takes those of {longer:4} along",
}
