"""Finds messages that are put into a text, which is an error when the line is run: the types tell them beforehand.

`python tests/messages_in_texts.py`, in the environment that checks the code.
"""

from __future__ import annotations

import re
import sys
from pathlib import Path

from mypy import build
from mypy.main import process_options
from mypy.nodes import CallExpr, Expression, MemberExpr, NameExpr, StrExpr

_MESSAGES = ("core.messages.Message", "server.UnknownSetting")


def main() -> int:
    """How many there are; each is written with its line."""
    sources, options = process_options(["src/kettlepost"])
    options.export_types, options.incremental, options.preserve_asts = True, False, True
    checked = build.build(sources, options)
    lines = []
    for call in checked.types:
        if isinstance(call, CallExpr) and _makes_text(call.callee):
            told = [str(checked.types.get(argument)) for argument in call.args]
            if any(name in one and "MessageError" not in one for one in told for name in _MESSAGES):
                lines.append(f"{_where(call)}: {', '.join(told)}")
    print(*lines, f"{len(lines)} messages in texts", sep="\n")
    return len(lines)


def _where(call: CallExpr) -> str:
    """The files that make a text at that line and column: the types do not say which one it is."""
    found = []
    for file in sorted(Path("src/kettlepost").rglob("*.py")):
        line = (file.read_text(encoding="utf-8").splitlines()[call.line - 1 : call.line] or [""])[0]
        if line[: call.column].endswith("{") or re.match(r"[rf]*[\"']|str\(", line[call.column :]):
            found.append(f"{file}:{call.line}")
    return " or ".join(found) or f"line {call.line}"


def _makes_text(callee: Expression) -> bool:
    if isinstance(callee, MemberExpr):
        return callee.name in ("format", "join") and isinstance(callee.expr, StrExpr)
    return isinstance(callee, NameExpr) and callee.fullname == "builtins.str"


if __name__ == "__main__":
    sys.exit(bool(main()))
