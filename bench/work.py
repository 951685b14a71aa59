"""How long a work list takes, against a check of the same plan; and that of one address, against asking about it."""

from __future__ import annotations

import tempfile
from pathlib import Path

from bench.making import make_plan
from bench.timing import PROGRAM, seconds

_ACCOUNTS, _SITES, _PLANNED = 5_000, 20, 400
"""So many accounts with so many sites each, and in so many of them five that are planned: 2,000 of 100,000."""


def work() -> str:
    """`work` over 100,000 sites, 2,000 of them planned, against `check`; `work ADDRESS` against `where ADDRESS`."""
    with tempfile.TemporaryDirectory() as folder:
        plan = make_plan(Path(folder) / "plan", _ACCOUNTS, _SITES, _SITES)
        for a in range(_PLANNED):
            path = plan / "accounts" / f"acc{a}.toml"
            path.write_text(path.read_text().replace('state = "live"', 'state = "planned"', 5))
        words = ["--plan", str(plan)]
        pairs = []
        for _ in range(2):
            reference = seconds([PROGRAM, "check", *words], fresh=plan)
            pairs.append((seconds([PROGRAM, "work", "--format", "json", *words], fresh=plan), reference))
        ours, reference = min(pair[0] for pair in pairs), min(pair[1] for pair in pairs)
        address = "site3.acc7.example/part3"
        one = [
            (seconds([PROGRAM, "work", address, *words]), seconds([PROGRAM, "where", address, *words]))
            for _ in range(7)
        ]
        mine, theirs = min(pair[0] for pair in one), min(pair[1] for pair in one)
    return (
        f"{ours / reference:.2f} of a check ({ours:.1f} s; aim: at most 2); one address {mine / theirs:.2f} of where "
        f"({mine:.2f} s; aim: at most 1.3)"
    )
