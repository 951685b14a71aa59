"""What directives there are, and which of them have a say in what answers."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence

import msgspec
from msgspec import Struct

from kettlepost.core.secrets import MASK
from kettlepost.core.webserver.arguments import argument_fault
from kettlepost.core.webserver.directives import NO_SECTION, NOT_CLOSED, ODDLY_CLOSED, Node, Section
from kettlepost.core.webserver.server import USUAL_MODULES
from kettlepost.core.webserver.server_table import AWAY, HERE, STATUS
from kettlepost.core.words import counted

NOT_KEPT = "NotKept"
"""What stands for a control file of which only is known that it is there."""
SECTIONS = frozenset(
    """files filesmatch if elseif else limit limitexcept ifmodule ifversion ifdefine iffile ifdirective ifsection
    requireall requireany requirenone""".split()
)
"""Sections, which no line of a control file begins with unless in angle brackets."""
REQUIRING = frozenset("require requireall requireany requirenone".split())
"""What says who gets in: a directive, and sections of them."""
MANY = 99
"""More arguments than a directive is asked with."""

VERSION = (2, 4, 62)
"""The version of the server that `<IfVersion>` is asked of."""
RARE = frozenset(
    """brotlicompressionquality bufferedlogs cachedisable cacheenable cgimapextension charsetdefault charsetoptions
    charsetsourceenc contentdigest htscanner logiotrackttfb lsphp_processgroup mcookiename metadir metafiles
    metasuffix modpagespeed pagespeed rlimitcpu secfilterengine secfilterscanpost substitute xbithack""".split()
)
"""Directives of modules that Debian does not have, which decide nothing; a server without them refuses each, unless a
section around it asks for the module."""
_DECIDING = ("auth", "session", "lua", "dav", "proxy", "dbd")
"""How modules begin that have a say in who gets what, where they are there."""
_OF_RARE_MODULES = ("sec", "mod_gzip_", "lsapi_", "suphp_", "modpagespeed", "passenger", "h2", "brotli", "cachelookup")
_MANY = 99
"""How many arguments stand in the table for any number."""
CARRIED_OUT = frozenset(
    """acceptpathinfo addhandler allow authmerging authname authtype browsermatch browsermatchnocase deny directoryindex
    directoryindexredirect directoryslash errordocument fallbackresource options order php_flag php_value redirect
    redirectmatch redirectpermanent redirecttemp removehandler satisfy sethandler setenvif setenvifnocase
    sslrequiressl""".split()
)
"""Directives that are carried out here, beside those of rewriting and `Require`."""
BESIDE_OTHERS = frozenset(
    """action aliaspreservepath error fancyindexing redirectrelative setenvifexpr ssllog sslloglevel sslrequire
    sslverifyclient""".split()
)
"""Directives that have a say beside others alone, which no trial of one by itself shows."""
_PERHAPS_TAKEN = frozenset(
    """sslcacertificatefile sslcacertificatepath filterprotocol sslrequire use macro sessioncookiename
    sessioncookiename2 proxyhcexpr proxyhctemplate""".split()
)
"""Directives that a server takes where what they name is there, on its disk or in its own configuration, or where
they are written in a language that is not read here."""
_FILTERS = frozenset(("deflate", "inflate", "includes", "substitute"))
"""Filters that every host has."""
REFUSED = "NotTaken"
"""What stands for a line that a server refuses, of which nothing more is kept."""
ENVIRONMENT = ("setenvif", "setenvifnocase", "browsermatch", "browsermatchnocase")
"""Directives that set variables by what a request says."""
OPTION_KEYS = {
    "followsymlinks": "follow", "symlinksifownermatch": "owner", "indexes": "lists", "multiviews": "views",
}  # fmt: skip


class DirectiveEntry(Struct, frozen=True):
    """What a real server says of a directive that a control file may hold (see directives.toml).

    `least` and `most` are the numbers of its arguments, `flag` is one that is On or Off, `number` one that takes
    a whole number; a directive for which none of them is said reads its line itself. `says` is one that was seen to
    change what a server gives.
    """

    name: str
    module: str
    override: str
    least: int = 0
    most: int = MANY
    flag: bool = False
    number: bool = False
    says: bool = False


_HERE = {name: msgspec.convert(entry, DirectiveEntry) for name, entry in HERE.items()}


def known(name: str) -> DirectiveEntry | None:
    """What is known of a directive, by its name in lower case, that a control file may hold."""
    return _HERE.get(name)


def is_not_here(name: str) -> bool:
    """Whether a server knows a directive or section, and refuses it in a control file."""
    return name in AWAY and name not in _HERE


def is_allowed(name: str, overrides: frozenset[str], named: Iterable[str] = ()) -> bool:
    """Whether a server takes a directive where control files may do no more than `overrides` say, and those `named`."""
    entry = known(name)
    if entry is not None and name in named:
        return True
    if entry is None or entry.override == "None" or "All" in overrides:
        return True
    return any(one in overrides for one in entry.override.split(" or "))


_FAMILIES = {
    "passenger": "passenger", "sec": "security", "modpagespeed": "pagespeed", "lsapi_": "lsapi", "suphp_": "suphp",
    "cachelookup": "litespeed", "mod_gzip_": "gzip",
}  # fmt: skip
"""The modules of directives that Debian does not have, by how those begin."""


_OURS = frozenset(map(str.lower, (REFUSED, NOT_KEPT, NOT_CLOSED, ODDLY_CLOSED, NO_SECTION)))


def module_of(name: str) -> str:
    """The module that a directive comes from; its own name for one of which nothing tells."""
    entry = known(name)
    if entry is not None:
        return entry.module
    if name in _OURS:
        return "core"
    return next((module for begin, module in _FAMILIES.items() if name.startswith(begin)), name)


_MODULES = frozenset(entry.module for entry in _HERE.values())


def known_modules() -> frozenset[str]:
    """The modules whose directives are known."""
    return _MODULES - {"core"}


def is_module(name: str) -> bool:
    """Whether a module is one whose directives are known."""
    return name in _MODULES


def is_named(module: str) -> bool:
    """Whether a module's name is known, so that it can be told whether a server has it."""
    return is_module(module) or module in _FAMILIES.values()


def is_status(number: int) -> bool:
    """Whether a server has a status number."""
    return number in STATUS


_OF_SERVERS = {
    one.lower(): one
    for one in "ProxyPass ProxyPassMatch Alias AliasMatch ScriptAlias ScriptAliasMatch WSGIScriptAlias UserDir".split()
}


def titled(name: str) -> str:
    """The name of a directive as people write it."""
    found = known(name)
    if found is None:
        return _OF_SERVERS.get(name, name)
    return found.name if not found.name.islower() or found.name[:1] == "p" else found.name.title()


def refusal(name: str, words: Sequence[str]) -> str:
    """Why a server refuses a line for its arguments, in words; empty where it takes them, or reads its line itself."""
    entry = known(name)
    if entry is None:
        return ""
    is_masked = MASK in words
    if not is_masked and (why := argument_fault(name, words)):
        return why
    if entry.flag and not is_masked and (not words or words[0].lower() not in ("on", "off")):
        return f"{titled(name)} is On or Off"
    if entry.flag:
        return ""
    taken = words.index("") if "" in words else len(words)  # an empty one is none
    if entry.most >= _MANY and taken:
        taken = len(words)
    if taken < entry.least or len(words) > entry.most:
        return f"{titled(name)} does not take {counted(len(words), 'argument')}"
    if entry.number and not is_masked and not re.fullmatch(r"[+-]?[0-9]+", words[0]):
        return f"{titled(name)} takes a number"
    return ""


_AWAY_THAT_SAY = frozenset(
    """script allowmethods serverpath stricthostcheck virtualdocumentrootip virtualscriptalias virtualscriptaliasip
    chrootdir regexdefaultoptions luaauthzprovider authnprovideralias authzprovideralias""".split()
)
"""Directives of the server's own files that have a say in what answers, and are not carried out here."""


def is_of_no_account(name: str) -> bool:
    """Whether a directive of the server's own files, beside those that are carried out, has no say in what answers."""
    if name in AWAY and name not in _HERE:
        return name not in _AWAY_THAT_SAY
    return decides_nothing(name) or is_rare(name)


def decides_nothing(name: str) -> bool:
    """Whether a directive of a module that hosts have decides nothing about which file answers, and who gets it."""
    entry = known(name)
    if (
        entry is None
        or entry.says
        or name in CARRIED_OUT
        or name in BESIDE_OTHERS
        or name.startswith(("rewrite", "require"))
    ):
        return False
    return entry.module in USUAL_MODULES or entry.module == "core"


def is_perhaps_taken(name: str, words: Sequence[str]) -> bool:
    """Whether a server may refuse a line that its directive allows: it names what the server may not have."""
    if name == "addoutputfilterbytype":
        return not {one.lower() for word in words[:1] for one in word.split(";")} <= _FILTERS
    if name == "authbasicprovider":
        return any(word.lower() != "file" for word in words)
    return name in _PERHAPS_TAKEN


def is_program(kind: str) -> bool:
    """Whether a type or handler names a program, or what is no plain file."""
    return "php" in kind.lower() or kind.lower() in ("application/x-type-map", "httpd/send-as-is")


def is_rare(name: str) -> bool:
    """Whether a directive decides nothing, but is one that many servers do not know."""
    entry = known(name) if name not in CARRIED_OUT else None
    if entry is not None:
        is_lacking = entry.module not in USUAL_MODULES and entry.module != "core"
        return is_lacking and not entry.says and not entry.module.startswith(_DECIDING)
    return name in RARE or name.startswith(_OF_RARE_MODULES)


def has_say(node: Node) -> bool:
    if isinstance(node, Section):
        return any(map(has_say, node.inner)) if node.name not in REQUIRING else True
    if node.name == "options":
        return bool(options_meant(node.words))
    if node.name in ("passengerapproot", "passengerenabled"):
        return True
    if node.name in ("addtype", "forcetype"):
        return is_program("".join(node.words[:1]))
    return not decides_nothing(node.name) and not is_rare(node.name)


def options_meant(words: Iterable[str]) -> set[str]:
    """The options among some that decide what answers."""
    names = [word.lstrip("+-").lower() for word in words]
    return {
        key for name in names for key in (("follow", "lists") if name == "all" else (OPTION_KEYS.get(name, ""),)) if key
    }
