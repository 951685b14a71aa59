"""Fuzzing the readers of plans and surveys, guided by coverage: `make fuzz`."""

from __future__ import annotations

import sys
import tempfile
from pathlib import Path

import atheris

with atheris.instrument_imports(include=["kettlepost"]):
    from kettlepost.core.checking.evaluation import check_account
    from kettlepost.core.errors import KettlepostError
    from kettlepost.core.layout import AccountLayout
    from kettlepost.core.plan import read_account, read_shared
    from kettlepost.core.survey import decode_survey
    from kettlepost.workspace.catalogue import applications

SEEDS = [
    b'A[account]\nname = "m"\n[[domain]]\nname = "a.example"\nkind = "primary"\nroot = "www"\n',
    b'A[account]\nname = "m"\n[[installation]]\napplication = "wordpress"\naddress = "a.example/x"\n',
    b'S{"kettlepost":1,"account":"m","taken":"","source":"","folders":[{"folder":"www"}]}',
]


def one_input(data: bytes) -> None:
    """The first byte says which reader is asked; whatever it can read is checked."""
    problems: list[str] = []
    try:
        raw = data[1:] if data[:1] == b"A" else SEEDS[0][1:]
        account = read_account(SHARED, raw, "m.toml", problems)
        survey = decode_survey(data[1:], "m.json", "m") if data[:1] == b"S" else None
        if account is not None:
            check_account(AccountLayout(SHARED.plan([account]), account, survey))
    except KettlepostError as error:
        problems.append(str(error))
    assert all(problems)


with tempfile.TemporaryDirectory() as folder:
    SHARED = read_shared(b"[package.copper]\ndatabases = 1\n", applications(), [])
    (Path(folder) / "seeds").mkdir()
    for n, seed in enumerate(SEEDS):
        (Path(folder) / "seeds" / str(n)).write_bytes(seed)
    atheris.Setup([*sys.argv, f"{folder}/seeds"], one_input)
    atheris.Fuzz()
