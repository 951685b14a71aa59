"""Who gets in: `Require` and its sections (mod_authz_core, mod_authz_host), and the older Order, Allow and Deny
(mod_access_compat), asked for one visitor who has not logged in."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from enum import Enum
from typing import NamedTuple

from msgspec import Struct

from kettlepost.core.messages import Message, say
from kettlepost.core.webserver.arguments import methods_fault
from kettlepost.core.webserver.directives import Directive, Node, Section, split_first, split_words, until_empty
from kettlepost.core.webserver.expressions import expression_fault
from kettlepost.core.webserver.networks import is_address_or_network, is_within


class Verdict(Enum):
    """What a provider or a section says of a case.visitor."""

    GRANTED = "granted"
    DENIED = "denied"
    NO_USER = "no-user"
    NEUTRAL = "neutral"


class Visitor(Struct, frozen=True):
    """Who asks: the address, the method of the request, and whether they have logged in where that is asked for."""

    ip: str = "198.51.100.7"
    method: str = "GET"
    is_known: bool = False


Expression = Callable[[str], bool]
Variables = Mapping[str, str]
"""The variables that are set."""
Decide = Callable[[Node, Message], bool]
"""An answer to what nothing tells: whether a line holds, and on what that depends."""


class Case(NamedTuple):
    """For whom it is asked who gets in, and how what else decides is found out."""

    visitor: Visitor
    evaluate: Expression
    decide: Decide
    env: Variables


_PROVIDERS = {
    "file-owner": "authz_owner", "file-group": "authz_owner", "dbm-group": "authz_dbm", "dbm-file-group": "authz_dbm",
    "dbd-group": "authz_dbd", "dbd-login": "authz_dbd", "dbd-logout": "authz_dbd", "ldap-user": "authnz_ldap",
    "ldap-group": "authnz_ldap", "ldap-dn": "authnz_ldap", "ldap-attribute": "authnz_ldap",
    "ldap-filter": "authnz_ldap",
    "ldap-search": "authnz_ldap", "user": "authz_user", "valid-user": "authz_user", "group": "authz_groupfile",
    "ip": "authz_host", "host": "authz_host", "local": "authz_host", "forward-dns": "authz_host",
    "all": "core", "env": "core", "method": "core", "expr": "core", "ssl": "ssl", "ssl-verify-client": "ssl",
}  # fmt: skip
"""The modules that say what `Require` may ask for."""


def module_asked(node: Directive) -> str:
    """The module that knows what a `Require` asks for; the word itself for one of which nothing tells."""
    word, rest = split_first(node.text)
    if word.lower() == "not":
        word = split_first(rest)[0]
    return _PROVIDERS.get(word.lower(), word.lower() or "core")


_LOGGED_IN = ("valid-user", "user", "group", "ldap-user", "ldap-group", "file-owner", "file-group", "dbm-group")


def restricting(method: str) -> str:
    """The method as it counts for who may do what: HEAD is GET without the content (RFC 9110 section 9.3.2)."""
    return "GET" if method.upper() == "HEAD" else method.upper()


def is_among(method: str, methods: frozenset[str]) -> bool:
    """Whether a method is one of some, where those behind a `!` mean all others."""
    return method in methods or (f"!{method}" not in methods and any(name[0] == "!" for name in methods))


def for_method(node: Node, method: str) -> Node | None:
    """What is left of a `Require`, or of a section of them, for a method, or for any where none is given."""
    if isinstance(node, Directive):
        return node
    if node.name == "limit":
        return node.inner[0] if not method or is_among(method, frozenset(node.words)) else None
    left = [inner for each in node.inner for inner in [for_method(each, method)] if inner is not None]
    return Section(node.name, node.text, node.line, tuple(left), node.file) if left or not node.inner else None


def required(nodes: Iterable[Node], case: Case) -> Verdict:
    """What the `Require` directives of one place say together: one that grants is enough."""
    return _any([_one(node, case) for node in nodes])


def _any(verdicts: list[Verdict]) -> Verdict:
    if Verdict.GRANTED in verdicts:
        return Verdict.GRANTED
    if Verdict.NO_USER in verdicts:
        return Verdict.NO_USER
    return Verdict.DENIED if Verdict.DENIED in verdicts or not verdicts else Verdict.NEUTRAL


def _all(verdicts: list[Verdict]) -> Verdict:
    if Verdict.DENIED in verdicts:
        return Verdict.DENIED
    if Verdict.NO_USER in verdicts:
        return Verdict.NO_USER
    return Verdict.GRANTED if Verdict.GRANTED in verdicts else Verdict.NEUTRAL


def _one(node: Node, case: Case) -> Verdict:
    if isinstance(node, Section):
        inner = [_one(each, case) for each in node.inner]
        if node.name == "requireall":
            return _all(inner)
        if node.name == "requireany":
            return _any(inner)
        return Verdict.DENIED if Verdict.GRANTED in inner else Verdict.NEUTRAL
    word, rest = split_first(node.text)
    is_negated = word.lower() == "not"
    if is_negated:
        word, rest = split_first(rest)
    verdict = _provider(node, word.lower(), rest, case)
    if is_negated:
        return Verdict.DENIED if verdict is Verdict.GRANTED else Verdict.NEUTRAL
    return verdict


def _provider(node: Directive, word: str, rest: str, case: Case) -> Verdict:
    values = until_empty(split_words(rest))
    if word == "all":
        return Verdict.GRANTED if rest.strip().lower() == "granted" else Verdict.DENIED
    if word in _LOGGED_IN:
        return Verdict.NO_USER
    if word == "ip":
        return Verdict.GRANTED if any(is_within(case.visitor.ip, value) for value in values) else Verdict.DENIED
    if word == "local":
        return Verdict.GRANTED if case.visitor.ip.startswith("127.") or case.visitor.ip == "::1" else Verdict.DENIED
    if word == "method":
        return Verdict.GRANTED if restricting(case.visitor.method) in map(restricting, values) else Verdict.DENIED
    if word == "env":
        return Verdict.GRANTED if any(value in case.env for value in values) else Verdict.DENIED
    if word == "expr":
        return Verdict.GRANTED if case.evaluate(rest) else Verdict.DENIED
    holds = case.decide(
        node, say("doubt/who-asks") if word in ("host", "forward-dns") else say("doubt/server-settings")
    )
    return Verdict.GRANTED if holds else Verdict.DENIED


def require_fault(node: Directive) -> str:
    """Why a server refuses a `Require`, in words; empty where it takes it, or where what it asks is not known here."""
    word, rest = split_first(node.text)
    if word.lower() == "not":
        word, rest = split_first(rest)
    values = until_empty(split_words(rest))
    match word.lower():
        case "":
            return "it asks for nothing"
        case "all":
            return "" if rest.strip().lower() in ("granted", "denied") else "all is granted or denied"
        case "ip":
            return "" if values and all(map(is_address_or_network, values)) else "it names no address"
        case "method":
            return methods_fault(values) if values else ""
        case "expr":
            return expression_fault(rest)
    return ""


class LegacyAccess(Struct):
    """`Order`, `Allow` and `Deny` of one place."""

    order: str = "deny,allow"
    allow: list[Directive] = []
    deny: list[Directive] = []


def older_lets_in(older: LegacyAccess, case: Case) -> bool:
    """Whether the older directives let a visitor in."""
    allowed = any(_meets(each, case) for each in older.allow)
    denied = any(_meets(each, case) for each in older.deny)
    if older.order == "allow,deny":
        return allowed and not denied
    if older.order == "mutual-failure":
        return allowed and not denied
    return allowed or not denied


def _meets(node: Directive, case: Case) -> bool:
    for value in node.arguments[1:]:
        if value.lower() == "all" or is_within(case.visitor.ip, value):
            return True
        if value.lower().startswith("env="):
            name = value[4:]
            if (name[1:] not in case.env) if name.startswith("!") else (name in case.env):
                return True
        elif value.lower() != "none" and not value[:1].isdigit() and case.decide(node, say("doubt/visitor-name")):
            return True
    return False
