"""Plans that are large in one way each, and the exponent with which the time of a command grows with them."""

from __future__ import annotations

import math
import tempfile
from collections.abc import Callable
from pathlib import Path

from bench.making import make_plan
from bench.timing import PROGRAM, processor_seconds

Maker = Callable[[Path, int], list[str]]
_HEAD = '[account]\nname = "big"\npackage = "copper"\n\n'
_PRIMARY = '[[domain]]\nname = "site.example"\nkind = "primary"\nroot = "www"\n'


def _plan(folder: Path, tables: list[str]) -> Path:
    plan = make_plan(folder, 0, 0, 0)
    (plan / "kettlepost.toml").write_text("[package.copper]\naddon_domains = 100000\ndatabases = 100000\n")
    (plan / "accounts" / "big.toml").write_text(_HEAD + "\n".join(tables))
    return plan


def _addon(n: int) -> str:
    return f'[[domain]]\nname = "site{n}.example"\nkind = "addon"\nroot = "sites/site{n}"\n'


def _installed(n: int, address: str) -> str:
    database = f'{{ name = "big_{n}", prefix = "w{n}_", user = "big_{n}" }}'
    return f'[[installation]]\napplication = "wordpress"\naddress = "{address}"\ndatabase = {database}\n'


def domains(folder: Path, size: int) -> list[str]:
    plan = _plan(folder, [_PRIMARY, *map(_addon, range(size))])
    return [PROGRAM, "domain", "list", "--plan", str(plan)]


def hosts(folder: Path, size: int) -> list[str]:
    tables = [_PRIMARY, *map(_addon, range(size)), *(_installed(n, f"site{n}.example") for n in range(size))]
    return [PROGRAM, "domain", "list", "--plan", str(_plan(folder, tables))]


def _between(folder: Path, size: int) -> Path:
    """Every domain of one account, each with something installed, is on its way to another one."""
    plan = _plan(folder, [_PRIMARY])
    ends = (
        ("big", "192.0.2.10", 'account_next = "new"'),
        ("new", "192.0.2.11", 'state = "planned"\naccount_now = "big"'),
    )
    for name, machine, says in ends:
        own = f'[account]\nname = "{name}"\nip_addresses = ["{machine}"]\n\n'
        state = "" if name == "big" else 'state = "planned"\n'
        tables = (f"{_addon(n)}{says}\n{_installed(n, f'site{n}.example')}{state}" for n in range(size))
        (plan / "accounts" / f"{name}.toml").write_text(own + "".join(tables))
    return plan


def transfers(folder: Path, size: int) -> list[str]:
    return [PROGRAM, "check", "--plan", str(_between(folder, size))]


def transfers_listed(folder: Path, size: int) -> list[str]:
    return [PROGRAM, "work", "new", "--plan", str(_between(folder, size))]


def databases(folder: Path, size: int) -> list[str]:
    tables = [_PRIMARY, *(_installed(n // 2, f"site.example/part{n}") for n in range(size))]
    return [PROGRAM, "check", "--only", "over-allowance", "--plan", str(_plan(folder, tables))]


def aliases(folder: Path, size: int) -> list[str]:
    chain = [f'[[domain]]\nname = "a{n}.example"\nkind = "alias"\nof = "a{n - 1}.example"\n' for n in range(1, size)]
    first = '[[domain]]\nname = "a0.example"\nkind = "primary"\nroot = "www"\n'
    return [PROGRAM, "check", "--plan", str(_plan(folder, [first, *chain]))]


def path_aliases(folder: Path, size: int) -> list[str]:
    tables = [_PRIMARY, *map(_addon, range(size))]
    tables += [f'[[path_alias]]\naddress = "site{n}.example/media"\nfolder = "media/m{n}"\n' for n in range(size)]
    return [PROGRAM, "check", "--plan", str(_plan(folder, tables))]


def paths_at_one_host(folder: Path, size: int) -> list[str]:
    tables = [_PRIMARY]
    tables += [f'[[path_alias]]\naddress = "site.example/media{n}"\nfolder = "media/m{n}"\n' for n in range(size)]
    tables += [_installed(n, f"site.example/part{n}") for n in range(size)]
    return [PROGRAM, "check", "--plan", str(_plan(folder, tables))]


def redirects(folder: Path, size: int) -> list[str]:
    chain = [
        f'[[domain]]\nname = "r{n}.example"\nkind = "addon"\nredirect_to = "r{n + 1}.example"\n' for n in range(size)
    ]
    last = f'[[domain]]\nname = "r{size}.example"\nkind = "addon"\nroot = "sites/last"\n'
    return [PROGRAM, "check", "--plan", str(_plan(folder, [_PRIMARY, *chain, last]))]


def wishes_alike(folder: Path, size: int) -> list[str]:
    table = folder.parent / f"wishes{size}.csv"
    table.write_text("application,domain,prefer\n" + "wordpress,site.example,subfolder\n" * size)
    plan = _plan(folder, [_PRIMARY])
    return [PROGRAM, "weigh", "--wishes", str(table), "--plan", str(plan)]


def faults(folder: Path, size: int) -> list[str]:
    tables = [
        _PRIMARY,
        *(_installed(n, f"site.example/part{n}").replace("wordpress", f"wordpres{n}") for n in range(size)),
    ]
    return [PROGRAM, "check", "--plan", str(_plan(folder, tables))]


def faulty_hosts(folder: Path, size: int) -> list[str]:
    tables = [_PRIMARY, *map(_addon, range(size))]
    tables += [f'[[path_alias]]\naddress = "sit{n}.example/media"\nfolder = "media/m{n}"\n' for n in range(size)]
    return [PROGRAM, "check", "--plan", str(_plan(folder, tables))]


def shared_root(folder: Path, size: int) -> list[str]:
    tables = [f'[[domain]]\nname = "s{n}.example"\nkind = "addon"\nroot = "www"\n' for n in range(size)]
    return [PROGRAM, "check", "--plan", str(_plan(folder, [_PRIMARY, *tables]))]


SIZES: dict[Maker, tuple[int, int]] = {
    domains: (8_000, 32_000),
    hosts: (4_000, 16_000),
    databases: (8_000, 32_000),
    transfers: (500, 2_000),
    transfers_listed: (250, 1_000),
    aliases: (8_000, 32_000),
    path_aliases: (8_000, 32_000),
    paths_at_one_host: (4_000, 16_000),
    redirects: (8_000, 32_000),
    wishes_alike: (50, 200),
    faults: (10_000, 40_000),
    shared_root: (10_000, 40_000),
    faulty_hosts: (10_000, 40_000),
}


def exponent(make: Maker) -> str:
    """The exponent between a small and a large plan, less what the command takes for one with next to nothing."""
    times = []
    for size in (1, *SIZES[make]):
        with tempfile.TemporaryDirectory() as folder:
            command = make(Path(folder) / "plan", size)
            times.append(min(processor_seconds(command, fresh=Path(folder) / "plan") for _ in range(2)))
    nothing, small, large = times
    ratio = math.log(SIZES[make][1] / SIZES[make][0])
    return f"{math.log(max(large - nothing, 0.01) / max(small - nothing, 0.01)) / ratio:.2f} ({large:.1f} s)"
