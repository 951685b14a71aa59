"""Sentences: why a database is not made, and what whoever makes it is to know."""

SENTENCES = {
    "wanted/no-prefix": "{name} lacks the account's prefix {begin}",
    "wanted/no-user": "the plan names no user: {user}, as the database, is taken",
    "wanted/shared": "{others:4} uses it as well, and its user reaches that",
    "wanted/same-login": "{others:4} logs in by the same user",
    "wanted/by-file": "it keeps its data in a file (database_server)",
    "wanted/elsewhere": "it is on {server}, which is not the account's own server",
    "wanted/too-old": "the server is too old for it ({kind} {version})",
    "wanted/name": "the name of its {what} {fault}",
    "wanted/same-tables": "{others:4} has the same tables there: give one of them others first",
    "wanted/login-unknown": "{others:4} logs in by the user {user}, and the server's users were not read: read them first (database read), as a second user of that name would lock the first out",
    "wanted/tables-there": "tables of its prefix are there already: give it another prefix or database first",
    "wanted/live": "it is live: what it works on is not taken back",
    "wanted/others-use-both": "others use its database and its user",
    "copy/same-tables": "{name} uses the same tables, and keeps them",
}
