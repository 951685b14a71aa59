"""What can be done with the program about something, as a fact: an interface says how."""

from __future__ import annotations

from enum import StrEnum
from typing import NamedTuple


class Action(StrEnum):
    """Things a user can do with the program; `Remedy.subject` says with what."""

    TAKE_SURVEY = "take the survey"
    SURVEY_AGAIN = "take the survey from where the plan says"
    MAKE_LISTING = "make the listing again"
    NAME_HOME = "say where the account's home is"
    NAME_INSIDE = "say which folder of an archive is the home"
    NAME_CERTIFICATES = "name trusted certificates"
    GIVE_TIME = "wait longer for a server"
    GIVE_MEMORY = "let something take more memory"
    GIVE_PASSWORD = "give the password when asked"  # noqa: S105
    ADD_EXTRA = "install an optional part of the program"
    START_PLAN = "start a plan folder, or name one"
    LIST_RULES = "list the rules"
    READ_RULE = "read a rule's page"
    LIST_APPLICATIONS = "list the applications"
    CHOOSE_ACCOUNT = "choose the account"
    LIST_DOMAINS = "list the domains"
    WEIGH_NEW_DOMAIN = "weigh a domain as a new one"
    WEIGH_DESPITE = "weigh places although a rule is broken there"
    GIVE_FOLDER = "give the folder instead of a root"
    GIVE_ROOT = "give the root"
    CONFIRM = "confirm what was found as it was planned"
    FORGET = "take an entry out that is gone"
    ADOPT = "write down what was found"
    ACCEPT = "accept a finding of a rule"
    ADOPT_TOO = "enter what is left out"
    ADD_DOMAIN = "declare a domain"
    ADD_ACCOUNT = "begin an account"
    ASK_FOLDER = "ask which addresses reach a folder"
    SET_WWW = "say whether a domain answers with www"
    READ_IN = "read in what a server has"
    CLEAR = "take out of a folder what is in the way, with a way back"
    CLEAR_BY_HAND = "write what to clear by hand"
    FINISH = "set the rest aside where that broke off"
    PUT_BACK = "put back what was set aside"
    SAY_DONE = "say that a step is done"
    CARRY_OUT = "carry out a step in the files"
    TAKE_BACK = "take back a step that was carried out"
    MOVE = "bring something to another address"
    UNDO = "take back the last change of the plan"
    DISCARD = "delete for good what was set aside"
    DISCARD_NOW = "the same before its time"
    BELIEVE = "do what a record says of which the planner has no copy"
    PUT_BESIDE = "put something back under a name of its own"
    PUT_BACK_OVER = "put something back although it wins over what is live"
    TAKE_OVER = "go on where a run on another machine broke off"
    LIST_SET_ASIDE = "list what was set aside"
    MAKE_DATABASES = "write the statements that make the databases"
    READ_DATABASES = "read what an account's databases hold"
    COPY_TABLES = "write the script that copies tables"
    BRING_TABLES = "write the script that brings tables from another account"
    READDRESS = "write the program that replaces addresses in tables"
    MERGE_TABLES = "write the program that compares tables, and merges them"
    SET_PASSWORDS_IN = "say where passwords are kept"
    MAKE_PASSWORD = "make a password"  # noqa: S105
    MAKE_ANOTHER = "make another password"
    GIVE_PHRASE = "give the pass phrase"
    WRITE_SHEET = "write the sheet of a site"
    PROBE = "ask the world again"
    LIST_WORK = "list what is to be done"
    LIVE_WITH = "live with what a rule finds"


class Remedy(NamedTuple):
    """One thing to do: what, and the account, rule, host or folder it is done with.

    `subject` is text for a shell, in which each word stands as `argument` writes it: somebody types it as it stands.
    """

    do: Action
    subject: str = ""

    @classmethod
    def of(cls, do: Action, *words: str) -> Remedy:
        """What is done with some words: names, and options of the command."""
        return cls(do, " ".join(map(argument, words)))


def surveying(account: str, source: str | None) -> Remedy:
    """Looking at an account's folders: at `source`, where the plan has one."""
    return Remedy.of(Action.SURVEY_AGAIN if source else Action.TAKE_SURVEY, account)


def argument(word: str) -> str:
    """A word as somebody types it for a POSIX shell, in single quotes where it holds anything but plain letters."""
    if word and all(letter.isalnum() or letter in "@%+:,./_-" for letter in word):
        return word
    return "'" + word.replace("'", "'\\''") + "'"
