"""Databases that are wanted: what is to be made, by which statements, and how tables come from one to another."""

from kettlepost.core.databases import copy_statements
from kettlepost.core.databases.copying import PrefixedValues, TableCopy, table_bringing, table_copy
from kettlepost.core.databases.dialect import Dialect
from kettlepost.core.databases.merging import TableMerge, table_merge
from kettlepost.core.databases.passwords import PURPOSES, PasswordEntry, Purpose, new_password, password_entries
from kettlepost.core.databases.replacing import AddressReplacement, address_replacement
from kettlepost.core.databases.statements import (
    making_statements,
    password_statement,
    scram_verifier,
    session_statements,
    taking_back_statements,
)
from kettlepost.core.databases.wanted import WantedDatabase, wanted_database, wanted_databases

__all__ = [
    "PURPOSES",
    "AddressReplacement",
    "Dialect",
    "PasswordEntry",
    "PrefixedValues",
    "Purpose",
    "TableCopy",
    "TableMerge",
    "WantedDatabase",
    "address_replacement",
    "copy_statements",
    "making_statements",
    "new_password",
    "password_entries",
    "password_statement",
    "scram_verifier",
    "session_statements",
    "table_bringing",
    "table_copy",
    "table_merge",
    "taking_back_statements",
    "wanted_database",
    "wanted_databases",
]
