"""What kinds of things a control file does, by what was compiled of it, so that nobody asks for what it cannot do."""

from __future__ import annotations

from collections.abc import Iterable
from typing import NamedTuple

from msgspec.structs import replace

from kettlepost.core.webserver.rewriting import RewriteRule
from kettlepost.core.webserver.settings import DirectorySettings

_GUARDS = frozenset(("%{REQUEST_FILENAME}", "%{SCRIPT_FILENAME}"))


class Traits(NamedTuple):
    """What a control file may do: send visitors elsewhere, ask for a password, hand paths on, and anything else."""

    sends: bool
    asks: bool
    hands: bool
    others: bool
    is_based: bool
    rules: tuple[RewriteRule, ...]

    def may_touch(self, rest: str) -> bool:
        """Whether it may make anything of a folder or file that is there, `rest` from where the control file lies."""
        return self.others or any(_may_touch(rule, rest) for rule in self.rules)

    def may_send(self, rest: str) -> bool:
        """Whether it may send a visitor of a path elsewhere, `rest` from where the control file lies."""
        if self.sends and (self.others or not any(map(_sends, self.rules))):
            return True
        return any(_sends(rule) and (not rule.begins or rest.startswith(rule.begins)) for rule in self.rules)

    @property
    def targets(self) -> list[str] | None:
        """The paths to which its rules hand others; None where that hangs on what is asked, or on more than rules."""
        if self.others or self.is_based:
            return None
        handing = [rule for rule in self.rules if rule.target != "-" and not _sends(rule) and rule.status is None]
        if any("$" in rule.target or "%" in rule.target or "-f" not in _spared(rule) for rule in handing):
            return None  # without sparing files, a rule takes its own target again
        return [rule.target.partition("?")[0] for rule in handing]

    def begins_that_matter(self, rest: str) -> list[str] | None:
        """How names in a folder begin, `rest` from where the control file lies, of which a rule may make its own.

        All other names that are not there are one to it; None where that cannot be told.
        """
        if self.others:
            return None
        found = []
        for rule in self.rules:
            if rule.begins and not rest.startswith(rule.begins):
                if rule.begins.startswith(rest):
                    found.append(rule.begins[len(rest) :])
            elif rule.negated or rule.pattern not in _ANY or not _is_one_for_all(rule):
                return None
        return found


EVERYTHING = Traits(True, True, True, True, True, ())
"""Of a file of which nothing is known."""


def traits_of(compiled: Iterable[DirectorySettings]) -> Traits:
    """What a control file may do, by the settings that each part of it makes."""
    parts = list(compiled)
    rewriting = [part.rules for part in parts if part.rules is not None]
    rules = tuple(rule for one in rewriting for _, rule in one.rules)
    sends = any(map(_sends, rules)) or any(part.sent or part.index_status or _errors_away(part) for part in parts)
    return Traits(
        sends=sends,
        asks=any(part.auth_line is not None for part in parts),
        hands=any(rule.target != "-" for rule in rules) or any(part.fallback is not None for part in parts),
        # rules that others inherit may hold further down
        others=any(one.options for one in rewriting) or any(map(_does_more, parts)),
        is_based=any(one.base is not None for one in rewriting),
        rules=rules,
    )


def _errors_away(part: DirectorySettings) -> bool:
    return any("://" in text for text, _ in part.errors.values())


def _does_more(part: DirectorySettings) -> bool:
    """Whether a part does anything but rewrite."""
    options = part.options_line if part.says_lists or part.options != DirectorySettings().options else None
    return replace(part, rules=None, engine_line=None, options_line=options) != DirectorySettings()


_ANY = frozenset((".", "^", ".*", "^.*", "^.*$", "(.*)", "^(.*)$", "^(.+)$", "^.+$"))
_FILE_TESTS = ("-f", "-d", "-l", "-s")
_OF_THE_HOST = frozenset(("%{HTTPS}", "%{HTTP_HOST}", "%{SERVER_PORT}", "%{REQUEST_METHOD}", "%{QUERY_STRING}"))


def _is_one_for_all(rule: RewriteRule) -> bool:
    """Whether a rule makes the same of every name that is not there."""
    if "$" in rule.target or "%" in rule.target or rule.variables or rule.again or rule.proxy:
        return False
    tested = [(one.tested.upper(), one.pattern) for one in rule.conditions]
    return all(text in _OF_THE_HOST or (text in _GUARDS and test in _FILE_TESTS) for text, test in tested)


def _sends(rule: RewriteRule) -> bool:
    return rule.redirects or "://" in rule.target


def _may_touch(rule: RewriteRule, rest: str) -> bool:
    if rule.begins and not rest.startswith(rule.begins) and not rule.begins.startswith(rest):
        return False
    if rule.target == "-" and rule.status is None:
        return False
    return not {"-f", "-d"} <= _spared(rule)


def _spared(rule: RewriteRule) -> set[str]:
    """By which tests a rule leaves alone what is there."""
    if any(one.or_next for one in rule.conditions):
        return set()
    return {one.pattern for one in rule.conditions if one.negated and one.tested.upper() in _GUARDS}
