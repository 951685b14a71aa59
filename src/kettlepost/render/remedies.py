"""What can be done with the program, in words: its commands and options."""

from __future__ import annotations

from collections.abc import Iterable

from kettlepost.core.errors import KettlepostError
from kettlepost.core.messages import Hint, MessageError
from kettlepost.core.remedies import Action, Remedy
from kettlepost.render.sentences import text

PASSWORD_VARIABLE = "KETTLEPOST_PASSWORD"  # noqa: S105 (the name of an environment variable)
PHRASE_VARIABLE = "KETTLEPOST_PASSPHRASE"
_COMMANDS = {
    Action.SURVEY_AGAIN: "kettlepost survey {}",
    Action.TAKE_SURVEY: "kettlepost survey {} --from PATH",
    Action.MAKE_LISTING: "kettlepost survey --how-to",
    Action.LIST_RULES: "kettlepost explain",
    Action.READ_RULE: "kettlepost explain {}",
    Action.LIST_APPLICATIONS: "kettlepost apps",
    Action.LIST_DOMAINS: "kettlepost domain list",
    Action.GIVE_TIME: "--silence SECONDS",
    Action.GIVE_MEMORY: "--memory MB",
    Action.ADD_EXTRA: "pip install 'kettlepost[{}]'",
    Action.GIVE_ROOT: "--root {}",
    Action.WEIGH_DESPITE: '--despite {} --because "..."',
    Action.CONFIRM: "kettlepost confirm {}",
    Action.FORGET: "kettlepost forget {}",
    Action.ADOPT: "kettlepost adopt {}",
    Action.ADOPT_TOO: "--with {}",
    Action.SET_WWW: "kettlepost domain www {}",
    Action.READ_IN: "kettlepost import {}",
    Action.ADD_ACCOUNT: "kettlepost account add {}",
    Action.ASK_FOLDER: "kettlepost where --folder {}",
    Action.ADD_DOMAIN: "kettlepost domain add {}",
    Action.ACCEPT: 'kettlepost accept {} --because "..."',
    Action.CLEAR: "kettlepost clear {}",
    Action.SAY_DONE: "kettlepost work --done {}",
    Action.CARRY_OUT: "kettlepost work --carry-out {}",
    Action.TAKE_BACK: "kettlepost work --take-back {}",
    Action.MOVE: "kettlepost move {} NEW",
    Action.UNDO: "kettlepost undo",
    Action.PUT_BACK: "kettlepost putback {}",
    Action.DISCARD: "kettlepost discard {}",
    Action.LIST_SET_ASIDE: "kettlepost set-asides {}",
    Action.MAKE_DATABASES: "kettlepost database script {}",
    Action.READ_DATABASES: "kettlepost database read {}",
    Action.COPY_TABLES: "kettlepost database copy {}",
    Action.BRING_TABLES: "kettlepost database bring {}",
    Action.MERGE_TABLES: "kettlepost database merge {}",
    Action.READDRESS: "kettlepost database readdress {}",
    Action.MAKE_PASSWORD: "kettlepost password make {}",
    Action.WRITE_SHEET: "kettlepost sheet {}",
    Action.PROBE: "kettlepost probe {}",
    Action.LIST_WORK: "kettlepost work {}",
}
_SENTENCES = {
    Action.SURVEY_AGAIN: "take it again: kettlepost survey {}",
    Action.TAKE_SURVEY: "take it again: kettlepost survey {} --from PATH",
    Action.MAKE_LISTING: "make the listing again as 'kettlepost survey --how-to' says, with LC_ALL=C",
    Action.NAME_HOME: 'name the account\'s home folder with --from, or write survey_from = "..." in its [account]',
    Action.NAME_INSIDE: "say with --inside FOLDER which folder is the home",
    Action.NAME_CERTIFICATES: "name a PEM file with --certificates",
    Action.GIVE_PASSWORD: f"give it at the prompt, or in the environment variable {PASSWORD_VARIABLE}",
    Action.GIVE_TIME: "survey --silence SECONDS waits longer",
    Action.GIVE_MEMORY: "survey --memory MB allows more, and --only FOLDER looks at a part",
    Action.ADD_EXTRA: "pip install 'kettlepost[{}]'",
    Action.START_PLAN: "start one with 'kettlepost new FOLDER', or name one with --plan",
    Action.LIST_RULES: "'kettlepost explain' lists them",
    Action.LIST_APPLICATIONS: "'kettlepost apps' lists them",
    Action.LIST_DOMAINS: "'kettlepost domain list' lists them",
    Action.CHOOSE_ACCOUNT: "name the account with --account",
    Action.WEIGH_NEW_DOMAIN: "to weigh it as a new one, name a domain of the account it is to go to, and give "
    "--new-domain {}",
    Action.WEIGH_DESPITE: 'give --despite {} --because "..."',
    Action.GIVE_FOLDER: "use --folder",
    Action.GIVE_ROOT: "give --root {}",
    Action.CONFIRM: "confirm it: kettlepost confirm {}",
    Action.FORGET: "take it out: kettlepost forget {}",
    Action.ADD_DOMAIN: "declare it: kettlepost domain add {}",
    Action.ADD_ACCOUNT: "begin it: kettlepost account add {}",
    Action.ASK_FOLDER: "of a folder ask: kettlepost where --folder {}",
    Action.SET_WWW: "say so: kettlepost domain www {}",
    Action.READ_IN: "read it in again: kettlepost import {}",
    Action.ADOPT_TOO: "enter it with --with {}",
    Action.ADOPT: "write it down: kettlepost adopt {}",
    Action.ACCEPT: 'accept it: kettlepost accept {} --because "..."',
    Action.CLEAR: "clear it: kettlepost clear {}",
    Action.CLEAR_BY_HAND: "or give --list, which writes what to do by hand",
    Action.FINISH: "'kettlepost clear --finish {}' sets the rest aside",
    Action.PUT_BACK: "'kettlepost putback {}' puts back what was moved",
    Action.SAY_DONE: "once it is done, say so: kettlepost work --done {}",
    Action.CARRY_OUT: "'kettlepost work --carry-out {}' brings it to its end",
    Action.TAKE_BACK: "'kettlepost work --take-back {}' takes it back",
    Action.LIST_WORK: "'kettlepost work' lists them",
    Action.MOVE: "kettlepost move {} NEW",
    Action.UNDO: "'kettlepost undo' takes it back",
    Action.DISCARD: "'kettlepost discard {}' deletes it for good",
    Action.DISCARD_NOW: "--now deletes it all the same",
    Action.BELIEVE: "--yes does it all the same, within the folder that was cleared",
    Action.PUT_BESIDE: "--beside puts it next to that, under a name of its own",
    Action.PUT_BACK_OVER: "--replace puts it back all the same",
    Action.TAKE_OVER: "once it is known to have ended, --take-over goes on from there",
    Action.LIST_SET_ASIDE: "what is set aside is listed by: kettlepost set-asides {}",
    Action.SET_PASSWORDS_IN: 'write passwords_in = "keyring" or "~/NAME.kdbx" under [settings] in kettlepost.toml',
    Action.MAKE_PASSWORD: "make one: kettlepost password make {}",
    Action.MAKE_ANOTHER: "--again makes another, and the old one stays in the history of its entry",
    Action.GIVE_PHRASE: f"give it at the prompt, or in the environment variable {PHRASE_VARIABLE}",
    Action.MAKE_DATABASES: "make it: kettlepost database script {}",
    Action.READ_DATABASES: "read them again: kettlepost database read {}",
    Action.COPY_TABLES: "write the script: kettlepost database copy {}",
    Action.WRITE_SHEET: "write it: kettlepost sheet {}",
    Action.PROBE: "ask again: kettlepost probe {}",
    Action.LIVE_WITH: 'take a way out, or if it is lived with: --despite {} --because "..."',
}


def command(remedy: Remedy) -> str:
    """The command or option alone: `kettlepost survey millbrook --from PATH`."""
    return _COMMANDS[remedy.do].format(remedy.subject).rstrip()


def sentence(remedy: Remedy) -> str:
    """What to do, as it goes on behind a semicolon; the command alone where nothing more is to be said of it."""
    words = _SENTENCES.get(remedy.do)
    return words.format(remedy.subject) if words is not None else command(remedy)


def with_commands(words: str, remedies: Iterable[Remedy]) -> str:
    """`words`, with what can be done about it in brackets behind them."""
    told = [command(remedy) for remedy in remedies]
    return f"{words} ({'; '.join(told)})" if told else words


def told(hint: Hint) -> str:
    """Something good to know, with the commands that go with it."""
    return with_commands(text(hint.words), hint.remedies)


def error_words(error: KettlepostError) -> str:
    """An error's message, and what can be done about it."""
    words = f"{error}: {text(error.more)}" if isinstance(error, MessageError) else str(error)
    return "; ".join([words, *map(sentence, error.remedies)]).replace("?; ", "? ")
