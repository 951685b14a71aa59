"""Sentences: ways out for those who use the tables of others."""

SENTENCES = {
    "copied/give-create-copy": "give {user} {what}: create it{login}, copy its tables into it from {prefixed}, {address}name it in its configuration{where}, and take the survey{with_databases:? and read the databases|} again; what is there now stays for the others",
    "copied/database": "the database {new}",
    "copied/tables-begin": "tables that begin with {value}",
    "copied/in-folder": " in {folder}",
    "copied/rights-user": " with rights for its user {login}",
    "copied/write-address-into": "write its address {address} into them, ",
    "prefixed/database": "the database {user}{begin}",
    "prefixed/prefix": ", prefix {written}",
    "apart/give": "give {address} {told}",
    "apart/find-out-them": "find out which of them really lies in {folder}, and mark the others as retired",
    "apart/prefix": 'the prefix "{prefix}"',
    "apart/database": "the database {name}",
    "tables-apart/needs-database-own": "{user} needs a database of its own, and the package has room for no more: take a larger one",
    "tables-apart/each": "{told:;}",
}
