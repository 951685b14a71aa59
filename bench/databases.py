"""How long it takes to read a database server, against its own client listing the same."""

from __future__ import annotations

import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

from bench.timing import PROGRAM, seconds

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))
_PLAN = '[account]\nname = "mill"\n[[domain]]\nname = "mill.example"\nkind = "primary"\nroot = "www"\n'
_LISTING = (
    "SELECT table_schema, table_name, data_length + index_length, COALESCE(update_time, create_time) FROM "
    "information_schema.tables WHERE table_type = 'BASE TABLE' AND table_schema LIKE 'mill%'"
)
_OF_ONE = (
    "SELECT c.relname, pg_total_relation_size(c.oid) FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace "
    "WHERE c.relkind IN ('r', 'p') AND n.nspname = 'public'"
)


def databases() -> str:
    """Reading MariaDB with 500 databases and 20,000 tables, PostgreSQL with 100 and 10,000."""
    from servers import mariadb_server, postgresql_server

    folder = Path(tempfile.mkdtemp())
    folder.chmod(0o755)
    try:
        plan = folder / "plan"
        (plan / "accounts").mkdir(parents=True)
        (plan / "kettlepost.toml").write_text("")
        (plan / "accounts/mill.toml").write_text(_PLAN)
        told = []
        with mariadb_server(folder) as server:
            tables = "".join(f"create table wp{t % 4}_t{t} (a int);" for t in range(40))
            made = "".join(f"create database mill_{n}; use mill_{n}; {tables}" for n in range(500))
            subprocess.run(server.client, input=made, text=True, check=True)
            listing = [*server.client, "--batch", "--execute", _LISTING]
            told.append(_ratio("MariaDB, 500 databases and 20,000 tables", server.address, plan, listing))
        with postgresql_server(folder) as server:
            made = "".join(f"create table wp{t % 4}_t{t} (a int);" for t in range(100))
            for n in range(100):
                subprocess.run([*server.client, "-c", f"create database mill_{n}"], check=True)
                subprocess.run([*server.client, "-d", f"mill_{n}"], input=made, text=True, check=True)
            each = " ".join(f'{" ".join(server.client)} -d mill_{n} -tAc "{_OF_ONE}";' for n in range(100))
            told.append(_ratio("PostgreSQL, 100 and 10,000", server.address, plan, ["sh", "-c", each]))
        return "; ".join(told)
    finally:
        shutil.rmtree(folder)


def _ratio(what: str, address: str, plan: Path, listing: list[str]) -> str:
    read = [PROGRAM, "database", "read", "mill", "--from", address, "--plan", str(plan)]
    pairs = [(seconds(read), seconds(listing)) for _ in range(5)]
    ours, reference = min(pair[0] for pair in pairs), min(pair[1] for pair in pairs)
    return f"{what}: {ours / reference:.2f} ({ours:.2f} s; the client {reference:.2f} s; aim: at most 3)"
