"""Plans and trees of any size to measure on."""

from __future__ import annotations

import random
from pathlib import Path

from kettlepost.core.plan import read_catalogue


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
    made = [(folder, 0)]
    folder.mkdir(parents=True)
    while len(made) < folders:
        parent, depth = made[chance.randrange(len(made))]
        if depth < 8:
            child = parent / f"part{len(made)}"
            child.mkdir()
            made.append((child, depth + 1))
    for n in range(files):
        parent, _ = made[n % folders]
        name = "index.html" if n // folders == 0 and n % 10 == 0 else f"file{n}.{chance.choice(_ENDINGS)}"
        with open(f"{parent}/{name}", "wb") as file:
            file.write(b"x" * (n % 40))
    return folder


def make_applications(folder: Path, number: int) -> Path:
    """Folders laid out as entries of the catalogue ask, with the files of a release around them."""
    known = list(read_catalogue().values())
    for n in range(number):
        application, base = known[n % len(known)], folder / f"site{n}"
        for path in (*application.all_of, *application.any_of[:1], *application.index_files):
            (base / path).parent.mkdir(parents=True, exist_ok=True)
            if path.endswith("/"):
                (base / path).mkdir(exist_ok=True)
            else:
                (base / path).write_text("<?php run();\n")
        for name in application.folders:
            make_tree(base / name / "more", 150, 8, seed=n)
    return folder


def make_listing(path: Path, files: int, folders: int) -> Path:
    """A listing as find(1) writes it, of folders in folders."""
    each = files // folders
    with path.open("w") as out:
        for n in range(folders):
            place = f"./www/part{n % 30}/sub{n // 30 % 50}/leaf{n}"
            out.write(f"d 4096 1790000000.0000000000 {place}\0\0")
            for k in range(each):
                out.write(f"f {k * 100} 1790000000.0000000000 {place}/file-{n}-{k}.{_ENDINGS[k % 6]}\0\0")
    return path


_ENDINGS = ("php", "jpg", "css", "js", "html", "txt")
