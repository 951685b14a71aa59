"""What can be done with the program, in words: its commands and options."""

from __future__ import annotations

from collections.abc import Iterable

from kettlepost.core.errors import KettlepostError
from kettlepost.core.remedies import Do, Remedy, Told

PASSWORD_VARIABLE = "KETTLEPOST_PASSWORD"  # noqa: S105 (the name of an environment variable)
PHRASE_VARIABLE = "KETTLEPOST_PASSPHRASE"
_COMMANDS = {
    Do.SURVEY_AGAIN: "kettlepost survey {}",
    Do.TAKE_SURVEY: "kettlepost survey {} --from PATH",
    Do.MAKE_LISTING: "kettlepost survey --how-to",
    Do.LIST_RULES: "kettlepost explain",
    Do.READ_RULE: "kettlepost explain {}",
    Do.LIST_APPLICATIONS: "kettlepost apps",
    Do.LIST_DOMAINS: "kettlepost domain list",
    Do.GIVE_TIME: "--silence SECONDS",
    Do.GIVE_MEMORY: "--memory MB",
    Do.ADD_EXTRA: "pip install 'kettlepost[{}]'",
    Do.GIVE_ROOT: "--root {}",
    Do.WEIGH_DESPITE: '--despite {} --because "..."',
    Do.CONFIRM: "kettlepost confirm {}",
    Do.FORGET: "kettlepost forget {}",
    Do.ADOPT: "kettlepost adopt {}",
    Do.ADOPT_TOO: "--with {}",
    Do.SET_WWW: "kettlepost domain www {}",
    Do.READ_IN: "kettlepost import {}",
    Do.ADD_ACCOUNT: "kettlepost account add {}",
    Do.ASK_FOLDER: "kettlepost where --folder {}",
    Do.ADD_DOMAIN: "kettlepost domain add {}",
    Do.ACCEPT: 'kettlepost accept {} --because "..."',
    Do.CLEAR: "kettlepost clear {}",
    Do.SAY_DONE: "kettlepost work --done {}",
    Do.UNDO: "kettlepost undo",
    Do.PUT_BACK: "kettlepost putback {}",
    Do.DISCARD: "kettlepost discard {}",
    Do.LIST_SET_ASIDE: "kettlepost set-asides {}",
    Do.MAKE_DATABASES: "kettlepost database script {}",
    Do.READ_DATABASES: "kettlepost database read {}",
    Do.COPY_TABLES: "kettlepost database copy {}",
    Do.MAKE_PASSWORD: "kettlepost password make {}",
    Do.WRITE_SHEET: "kettlepost sheet {}",
}
_SENTENCES = {
    Do.SURVEY_AGAIN: "take it again: kettlepost survey {}",
    Do.TAKE_SURVEY: "take it again: kettlepost survey {} --from PATH",
    Do.MAKE_LISTING: "make the listing again as 'kettlepost survey --how-to' says, with LC_ALL=C",
    Do.NAME_HOME: 'name the account\'s home folder with --from, or write survey_from = "..." in its [account]',
    Do.NAME_INSIDE: "say with --inside FOLDER which folder is the home",
    Do.NAME_CERTIFICATES: "name a PEM file with --certificates",
    Do.GIVE_PASSWORD: f"give it at the prompt, or in the environment variable {PASSWORD_VARIABLE}",
    Do.GIVE_TIME: "survey --silence SECONDS waits longer",
    Do.GIVE_MEMORY: "survey --memory MB allows more, and --only FOLDER looks at a part",
    Do.ADD_EXTRA: "pip install 'kettlepost[{}]'",
    Do.START_PLAN: "start one with 'kettlepost new FOLDER', or name one with --plan",
    Do.LIST_RULES: "'kettlepost explain' lists them",
    Do.LIST_APPLICATIONS: "'kettlepost apps' lists them",
    Do.LIST_DOMAINS: "'kettlepost domain list' lists them",
    Do.CHOOSE_ACCOUNT: "name the account with --account",
    Do.WEIGH_NEW_DOMAIN: "to weigh it as a new one, name a domain of the account it is to go to, and give "
    "--new-domain {}",
    Do.WEIGH_DESPITE: 'give --despite {} --because "..."',
    Do.GIVE_FOLDER: "use --folder",
    Do.GIVE_ROOT: "give --root {}",
    Do.CONFIRM: "confirm it: kettlepost confirm {}",
    Do.FORGET: "take it out: kettlepost forget {}",
    Do.ADD_DOMAIN: "declare it: kettlepost domain add {}",
    Do.ADD_ACCOUNT: "begin it: kettlepost account add {}",
    Do.ASK_FOLDER: "of a folder ask: kettlepost where --folder {}",
    Do.SET_WWW: "say so: kettlepost domain www {}",
    Do.READ_IN: "read it in again: kettlepost import {}",
    Do.ADOPT_TOO: "enter it with --with {}",
    Do.ADOPT: "write it down: kettlepost adopt {}",
    Do.ACCEPT: 'accept it: kettlepost accept {} --because "..."',
    Do.CLEAR: "clear it: kettlepost clear {}",
    Do.CLEAR_BY_HAND: "or give --list, which writes what to do by hand",
    Do.FINISH: "'kettlepost clear --finish {}' sets the rest aside",
    Do.PUT_BACK: "'kettlepost putback {}' puts back what was moved",
    Do.SAY_DONE: "once it is done, say so: kettlepost work --done {}",
    Do.UNDO: "'kettlepost undo' takes it back",
    Do.DISCARD: "'kettlepost discard {}' deletes it for good",
    Do.DISCARD_NOW: "--now deletes it all the same",
    Do.BELIEVE: "--yes does it all the same, within the folder that was cleared",
    Do.PUT_BESIDE: "--beside puts it next to that, under a name of its own",
    Do.PUT_BACK_OVER: "--replace puts it back all the same",
    Do.TAKE_OVER: "once it is known to have ended, --take-over goes on from there",
    Do.LIST_SET_ASIDE: "what is set aside is listed by: kettlepost set-asides {}",
    Do.SET_PASSWORDS_IN: 'write passwords_in = "keyring" or "~/NAME.kdbx" under [settings] in kettlepost.toml',
    Do.MAKE_PASSWORD: "make one: kettlepost password make {}",
    Do.MAKE_ANOTHER: "--again makes another, and the old one stays in the history of its entry",
    Do.GIVE_PHRASE: f"give it at the prompt, or in the environment variable {PHRASE_VARIABLE}",
    Do.MAKE_DATABASES: "make it: kettlepost database script {}",
    Do.READ_DATABASES: "read them again: kettlepost database read {}",
    Do.COPY_TABLES: "write the script: kettlepost database copy {}",
    Do.WRITE_SHEET: "write it: kettlepost sheet {}",
    Do.LIVE_WITH: 'take a way out, or if it is lived with: --despite {} --because "..."',
}


def command(remedy: Remedy) -> str:
    """The command or option alone: `kettlepost survey millbrook --from PATH`."""
    return _COMMANDS[remedy.do].format(remedy.subject).rstrip()


def sentence(remedy: Remedy) -> str:
    """What to do, as it goes on behind a semicolon."""
    return _SENTENCES[remedy.do].format(remedy.subject)


def with_commands(words: str, remedies: Iterable[Remedy]) -> str:
    """`words`, with what can be done about it in brackets behind them."""
    told = [command(remedy) for remedy in remedies]
    return f"{words} ({'; '.join(told)})" if told else words


def told(hint: Told) -> str:
    """Something good to know, with the commands that go with it."""
    return with_commands(hint.words, hint.remedies)


def error_words(error: KettlepostError) -> str:
    """An error's message, and what can be done about it."""
    return "; ".join([str(error), *map(sentence, error.remedies)]).replace("?; ", "? ")
