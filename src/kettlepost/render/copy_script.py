"""Copying tables as a shell script (POSIX.1-2024): a dump that is looked at, and rows counted before and after."""

from __future__ import annotations

import shlex
from collections.abc import Iterator

from kettlepost.core.databases import TableCopy, copy_statements
from kettlepost.core.names import printable
from kettlepost.core.remedies import Do, Remedy
from kettlepost.render.remedies import command

_HEAD = """\
#!/bin/sh
# {what}
# Run it with a folder for the dump, then the options by which the server's client logs in:
#   sh FILE FOLDER {options}
# It writes a dump and looks whether that is whole, counts the rows, {does}, and counts again.
# {keeps}
{make}{told}set -eu
umask 077
if [ $# -lt 1 ] || [ ! -d "$1" ]; then echo "name a folder for the dump first" >&2; exit 2; fi
work=$1
shift
for file in {dump} tables.txt troubles.txt before.txt after.txt; do
  if [ -e "$work/$file" ]; then echo "$work/$file is there already: name another folder" >&2; exit 2; fi
done
stop() {{ printf '%s\\n' "$1" >&2; exit 1; }}
"""
_MYSQL = """\
if command -v mariadb >/dev/null 2>&1; then client=mariadb dumper=mariadb-dump; else client=mysql dumper=mysqldump; fi
ask() {{ "$client" "$@" --default-character-set=utf8mb4 --batch --skip-column-names --raw; }}
base={base}

# which tables: those with the prefix, but for longer prefixes of others
ask "$@" > "$work/tables.txt" <<'SQL'
{tables}
SQL
[ -s "$work/tables.txt" ] || stop {none}
number=$(wc -l < "$work/tables.txt")

# what would come to harm
ask "$@" > "$work/troubles.txt" <<'SQL'
{troubles}
SQL
if [ -s "$work/troubles.txt" ]; then cat "$work/troubles.txt" >&2; stop "nothing was changed"; fi

# the dump, and whether it is whole
dump() {{
  while IFS= read -r name; do set -- "$@" "$name"; done < "$work/tables.txt"
  "$dumper" "$@"
}}
dump "$@" --default-character-set=utf8mb4 --single-transaction --no-tablespaces --skip-opt --quick --create-options \\
  --extended-insert --set-charset --hex-blob --triggers -- "$base" > "$work/dump.sql" \\
  || stop "the dump failed: nothing was changed"
tail -n 1 "$work/dump.sql" | grep -q '^-- Dump completed' || stop "the dump is not whole: nothing was changed"
[ "$(grep -c '^CREATE TABLE ' "$work/dump.sql")" -eq "$number" ] || stop "the dump lacks a table: nothing was changed"
echo "dumped" $number "tables to $work/dump.sql"

# runs what a query writes
run() {{
  ask "$@" > "$work/step.sql" || stop "the server refused: look what is there"
  ask "$@" < "$work/step.sql" || stop "the server refused: look what is there, and in $work/step.sql"
  rm "$work/step.sql"
}}
run "$@" > "$work/counted.txt" <<'SQL'
{before}
SQL
sort "$work/counted.txt" > "$work/before.txt"
[ "$(wc -l < "$work/before.txt")" -eq "$number" ] || stop "a table could not be counted: nothing was changed"
"""
_RUN = """
run "$@" <<'SQL'
{query}
SQL
"""
_LOAD = """
there=$(ask "$@" <<'SQL'
{there}
SQL
)
[ -n "$there" ] || stop {absent}
"$client" "$@" --default-character-set=utf8mb4 -- {target} < "$work/dump.sql" \\
  || stop "it could not be loaded: what is there of it may be dropped"
"""
_END = """
run "$@" > "$work/counted.txt" <<'SQL'
{after}
SQL
sort "$work/counted.txt" > "$work/after.txt"
"""
_COMPARE = """\
rm "$work/counted.txt"
if ! cmp -s "$work/before.txt" "$work/after.txt"; then
  diff "$work/before.txt" "$work/after.txt" >&2 || true
  stop "the rows differ: see before.txt and after.txt in $work"
fi
echo $number "tables with the same rows are in" {target}
"""
_POSTGRESQL = """\
ask() {{ psql "$@" --no-psqlrc --quiet --tuples-only --no-align --set ON_ERROR_STOP=1; }}
base={base}
target={target}

ask "$@" -d "$base" > "$work/tables.txt" <<'SQL'
{tables}
SQL
[ -s "$work/tables.txt" ] || stop {none}
number=$(wc -l < "$work/tables.txt")
ask "$@" -d "$target" > "$work/troubles.txt" <<'SQL' || stop "the other database cannot be reached: make it first"
{troubles}
SQL
if [ -s "$work/troubles.txt" ]; then cat "$work/troubles.txt" >&2; stop "nothing was changed"; fi

# the dump, and whether it is whole
dump() {{
  while IFS= read -r name; do set -- "$@" -t "$name"; done < "$work/tables.txt"
  pg_dump "$@" --format=custom --no-owner --no-privileges --file="$work/dump.custom" --dbname="$base"
}}
dump "$@" || stop "the dump failed: nothing was changed"
pg_restore --list "$work/dump.custom" > "$work/list.txt" || stop "the dump cannot be read: nothing was changed"
[ "$(grep -c '^[0-9; ]* TABLE [^D]' "$work/list.txt")" -eq "$number" ] \\
  || stop "the dump lacks a table: nothing was changed"
rm "$work/list.txt"
echo "dumped" $number "tables to $work/dump.custom"

# runs what a query writes
run() {{
  ask "$@" > "$work/step.sql" || stop "the server refused: look what is there"
  ask "$@" < "$work/step.sql" || stop "the server refused: look what is there, and in $work/step.sql"
  rm "$work/step.sql"
}}
run "$@" -d "$base" > "$work/counted.txt" <<'SQL'
{before}
SQL
sort "$work/counted.txt" > "$work/before.txt"
"""
_RESTORE = """
pg_restore "$@" --exit-on-error --single-transaction --no-owner --no-privileges --dbname="$target" \\
  "$work/dump.custom" || stop "it could not be loaded: nothing is in the other database"
"""
_RUN_THERE = """
run "$@" -d "$target" <<'SQL'
{query}
SQL
"""
_END_THERE = """
run "$@" -d "$target" > "$work/counted.txt" <<'SQL'
{after}
SQL
sort "$work/counted.txt" > "$work/after.txt"
"""


def copy_script(copy: TableCopy) -> str:
    """The whole script."""
    return "".join((_head(copy), *(_postgresql(copy) if copy.dialect.is_postgresql else _mysql(copy))))


def _head(copy: TableCopy) -> str:
    begin, does = ("Renames", "renames them") if copy.renames else ("Copies", "copies the tables")
    what = f"{begin} the tables of {printable(copy.whose)}: {_place(copy.source, copy.prefix)} to "
    return _HEAD.format(
        what=what + _place(copy.target, copy.new_prefix), does=does, told="".join(f"# {line}\n" for line in copy.told),
        options="-h HOST -U USER" if copy.dialect.is_postgresql else "--defaults-extra-file=FILE --host=HOST",
        dump="dump.custom" if copy.dialect.is_postgresql else "dump.sql",
        make=_to_make(copy),
        keeps="What the tables were called is gone then: name the new ones in its configuration at once."
        if copy.renames else "What is there stays as it is. Nobody is to write to it meanwhile.",
    )  # fmt: skip


def _to_make(copy: TableCopy) -> str:
    if copy.within:
        return ""
    how = command(Remedy(Do.MAKE_DATABASES, copy.whose))
    return f"# The database {printable(copy.target)} has to be there; once the plan names it: {how}\n"


def _mysql(copy: TableCopy) -> Iterator[str]:
    asked = copy_statements
    yield _MYSQL.format(
        base=shlex.quote(copy.source), none=_none(copy), tables=asked.SESSION + asked.tables(copy),
        troubles=asked.SESSION + asked.troubles(copy), before=asked.SESSION + asked.counting_query(copy),
    )  # fmt: skip
    if copy.renames:
        yield _RUN.format(query=asked.SESSION + asked.renaming_query(copy))
    elif copy.within:
        yield _RUN.format(query=asked.SESSION + asked.copying_query(copy))
    else:
        absent = shlex.quote(f"the database {printable(copy.target)} is not there: make it first")
        yield _LOAD.format(target=shlex.quote(copy.target), there=asked.SESSION + asked.is_there(copy), absent=absent)
        if copy.new_prefix != copy.prefix:
            yield _RUN.format(query=asked.SESSION + asked.renaming_query(copy, is_loaded=True))
    if copy.prefixed:
        yield _RUN.format(query=asked.SESSION + asked.values_query(copy))
    yield _END.format(after=asked.SESSION + asked.counting_query(copy, is_new=True))
    yield _COMPARE.format(target=shlex.quote(_place(copy.target, copy.new_prefix)))


def _postgresql(copy: TableCopy) -> Iterator[str]:
    from kettlepost.core.databases import copy_postgresql as asked

    yield _POSTGRESQL.format(
        base=shlex.quote(asked.connection(copy.source)), target=shlex.quote(asked.connection(copy.target)),
        none=_none(copy), tables=asked.tables(copy), troubles=asked.troubles(copy), before=asked.counting_query(copy),
    )  # fmt: skip
    if not copy.renames:
        yield _RESTORE
    if copy.new_prefix != copy.prefix:
        yield _RUN_THERE.format(query=asked.renaming_query(copy))
    if copy.prefixed:
        yield _RUN_THERE.format(query=asked.values_query(copy))
    yield _END_THERE.format(after=asked.counting_query(copy, is_new=True))
    yield _COMPARE.format(target=shlex.quote(_place(copy.target, copy.new_prefix)))


def _none(copy: TableCopy) -> str:
    return shlex.quote(f"no table is in {_place(copy.source, copy.prefix)}")


def _place(database: str, prefix: str) -> str:
    return printable(f"{database}, prefix {prefix}" if prefix else f"{database}, no prefix")
