"""Plans and trees of any size to measure on."""

from __future__ import annotations

import random
from pathlib import Path


def make_plan(folder: Path, accounts: int, domains: int, installations: int) -> Path:
    """A plan with nothing to find, as one could be written by hand."""
    (folder / "accounts").mkdir(parents=True)
    (folder / "kettlepost.toml").write_text("[package.copper]\naddon_domains = 50\n")
    for a in range(accounts):
        (folder / "accounts" / f"acc{a}.toml").write_text(_account(a, domains, installations))
    return folder


def _account(a: int, domains: int, installations: int) -> str:
    parts = [
        f'[account]\nname = "acc{a}"\nhome = "/srv/hosting/acc{a}"\nclient = "Client {a}"\n'
        f'package = "copper"\ndatabase_prefix = "a{a}_"\n'
    ]
    for d in range(domains):
        kind = "primary" if d == 0 else "addon"
        parts.append(f'[[domain]]\nname = "site{d}.acc{a}.example"\nkind = "{kind}"\nroot = "sites/site{d}"\n')
    for n in range(installations):
        parts.append(
            f'[[installation]]\napplication = "wordpress"\naddress = "site{n % domains}.acc{a}.example/part{n}"\n'
            f'state = "live"\ndatabase = {{ name = "a{a}_s{n}", prefix = "w{n}_" }}\nadmin_user = "signal{n}"\n'
        )
    return "\n".join(parts)


def make_tree(folder: Path, files: int, folders: int, seed: int = 1) -> Path:
    """Plain files in nested folders, a few of them index files, like what lies on a host."""
    chance = random.Random(seed)
    made = [folder]
    folder.mkdir(parents=True)
    while len(made) < folders:
        parent = made[chance.randrange(max(0, len(made) - 400), len(made))]
        child = parent / f"part{len(made)}"
        child.mkdir()
        made.append(child)
    for n in range(files):
        parent = made[n % folders]
        name = "index.html" if n // folders == 0 and n % 10 == 0 else f"file{n}.{chance.choice(_ENDINGS)}"
        with open(f"{parent}/{name}", "wb") as file:
            file.write(b"x" * (n % 40))
    return folder


_ENDINGS = ("php", "jpg", "css", "js", "html", "txt")
