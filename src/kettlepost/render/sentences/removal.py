"""Sentences: what goes with an application that is not wanted any more, and what must stay, and for whom."""

SENTENCES = {
    "removal/keep-copy-remove": "{begin}keep a copy of {copied}, then remove {removed}{then}",
    "removal/leave-nothing-tells": (
        "{begin}leave what is in {folder} as it is: {whose}, and nothing tells the files of {title} apart"
    ),
    "removal/stays": "; what stays: {stays:8}",
    "removal/lies-too": "{mixed:4} lies there too",
    "removal/all-account-lies": "all of the account lies there",
    "removal/s": "what is {title}'s in {folder}",
    "removal/keep-copy-too": "; keep a copy of {folder}, too, by which it answered, and remove that",
    "removal/look": "; look at {folder}: {says}",
    "tables-words/but": ", but not with {longer:4}",
    "tables-words/tables-database-begin": "its tables in the database {name}, which begin with {prefix}{apart}",
    "tables-words/database": "the database {name}",
    "tables-words/user": " with its user {user}",
    "hold-words/itself": "{place} itself",
    "hold-words/root": "the root of {who}",
    "hold-words/root-today": "the root of {who} today",
    "hold-words/leads": "to which {who} leads",
    "hold-words/where-installed": "where {who} is installed",
    "hold-words/holds": "which holds {title}",
    "hold-words/link-leads": "to which the link {who} leads",
    "hold-words/visitors-read": "which visitors read",
    "hold-words/through-answers": "through which {who} answers",
    "tables-that-stay/database-until-known": (
        "the database {name}, until it is known which {unsure:4} {use}, as no configuration or plan tells"
    ),
    "tables-that-stay/database-until-known-2": (
        "the database {name} on {server}, until it is known that nobody else uses it"
    ),
    "tables-that-stay/database-itself": "the database {name} itself, which {others:4} {use}",
    "tables-that-stay/all-tables-database": "all tables in the database {name}, as {alike:4} {use} the same",
    "front-file/goes-too": "if it starts what lies in {folder}, it goes, too",
}
