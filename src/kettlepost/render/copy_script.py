"""Copying tables as a shell script (POSIX.1-2024): a dump that is looked at, and rows counted before and after."""

from __future__ import annotations

from collections.abc import Iterator

from kettlepost.core.databases import TableCopy, copy_statements
from kettlepost.core.names import printable
from kettlepost.core.quoting.sh import Sh, comment, here_document, raw, said
from kettlepost.core.quoting.sql import Sql
from kettlepost.core.remedies import Action, Remedy
from kettlepost.render.remedies import command
from kettlepost.render.sentences import text

_HEAD = """\
#!/bin/sh
# «begin» the tables of «whose»: «source» to «target»
# Run it with a folder for the dump, then the options by which the server's client logs in:
#   sh FILE FOLDER «options»
# It writes a dump and looks whether that is whole, counts the rows, «does», and counts again.
# «keeps»
«make»«told»set -eu
umask 077
if [ $# -lt 1 ] || [ ! -d "$1" ]; then echo "name a folder for the dump first" >&2; exit 2; fi
work=$1
shift
for file in «dump» tables.txt troubles.txt before.txt after.txt; do
  if [ -e "$work/$file" ]; then echo "$work/$file is there already: name another folder" >&2; exit 2; fi
done
stop() { printf '%s\\n' "$1" >&2; exit 1; }
"""
_MYSQL = """\
if command -v mariadb >/dev/null 2>&1; then client=mariadb dumper=mariadb-dump; else client=mysql dumper=mysqldump; fi
ask() { "$client" "$@" --default-character-set=utf8mb4 --batch --skip-column-names --raw; }
base=«base»

# which tables: those with the prefix, but for longer prefixes of others
ask "$@" > "$work/tables.txt" «tables»
[ -s "$work/tables.txt" ] || stop «none»
number=$(wc -l < "$work/tables.txt")

# what would come to harm
ask "$@" > "$work/troubles.txt" «troubles»
if [ -s "$work/troubles.txt" ]; then cat "$work/troubles.txt" >&2; stop "nothing was changed"; fi

# the dump, and whether it is whole
dump() {
  while IFS= read -r name; do set -- "$@" "$name"; done < "$work/tables.txt"
  "$dumper" "$@"
}
dump "$@" --default-character-set=utf8mb4 --single-transaction --no-tablespaces --skip-opt --quick --create-options \\
  --extended-insert --set-charset --hex-blob --triggers -- "$base" > "$work/dump.sql" \\
  || stop "the dump failed: nothing was changed"
tail -n 1 "$work/dump.sql" | grep -q '^-- Dump completed' || stop "the dump is not whole: nothing was changed"
[ "$(grep -c '^CREATE TABLE ' "$work/dump.sql")" -eq "$number" ] || stop "the dump lacks a table: nothing was changed"
echo "dumped" $number "tables to $work/dump.sql"

# runs what a query writes
run() {
  ask "$@" > "$work/step.sql" || stop "the server refused: look what is there"
  ask "$@" < "$work/step.sql" || stop "the server refused: look what is there, and in $work/step.sql"
  rm "$work/step.sql"
}
run "$@" > "$work/counted.txt" «before»
sort "$work/counted.txt" > "$work/before.txt"
[ "$(wc -l < "$work/before.txt")" -eq "$number" ] || stop "a table could not be counted: nothing was changed"
"""
_RUN = """
run "$@" «query»
"""
_LOAD = """
there=$(ask "$@" «there»
)
[ -n "$there" ] || stop «absent»
"$client" "$@" --default-character-set=utf8mb4 -- «target» < "$work/dump.sql" \\
  || stop "it could not be loaded: what is there of it may be dropped"
"""
_END = """
run "$@" > "$work/counted.txt" «after»
sort "$work/counted.txt" > "$work/after.txt"
"""
_COMPARE = """\
rm "$work/counted.txt"
if ! cmp -s "$work/before.txt" "$work/after.txt"; then
  diff "$work/before.txt" "$work/after.txt" >&2 || true
  stop "the rows differ: see before.txt and after.txt in $work"
fi
echo $number "tables with the same rows are in" «target»
"""
_POSTGRESQL = """\
ask() { psql "$@" --no-psqlrc --quiet --tuples-only --no-align --set ON_ERROR_STOP=1; }
base=«base»
target=«target»

ask "$@" -d "$base" > "$work/tables.txt" «tables»
[ -s "$work/tables.txt" ] || stop «none»
number=$(wc -l < "$work/tables.txt")
ask "$@" -d "$target" > "$work/troubles.txt" «troubles»
if [ -s "$work/troubles.txt" ]; then cat "$work/troubles.txt" >&2; stop "nothing was changed"; fi

# the dump, and whether it is whole
dump() {
  while IFS= read -r name; do set -- "$@" -t "$name"; done < "$work/tables.txt"
  pg_dump "$@" --format=custom --no-owner --no-privileges --file="$work/dump.custom" --dbname="$base"
}
dump "$@" || stop "the dump failed: nothing was changed"
pg_restore --list "$work/dump.custom" > "$work/list.txt" || stop "the dump cannot be read: nothing was changed"
[ "$(grep -c '^[0-9; ]* TABLE [^D]' "$work/list.txt")" -eq "$number" ] \\
  || stop "the dump lacks a table: nothing was changed"
rm "$work/list.txt"
echo "dumped" $number "tables to $work/dump.custom"

# runs what a query writes
run() {
  ask "$@" > "$work/step.sql" || stop "the server refused: look what is there"
  ask "$@" < "$work/step.sql" || stop "the server refused: look what is there, and in $work/step.sql"
  rm "$work/step.sql"
}
run "$@" -d "$base" > "$work/counted.txt" «before»
sort "$work/counted.txt" > "$work/before.txt"
"""
_RESTORE = """
pg_restore "$@" --exit-on-error --single-transaction --no-owner --no-privileges --dbname="$target" \\
  "$work/dump.custom" || stop "it could not be loaded: nothing is in the other database"
"""
_RUN_THERE = """
run "$@" -d "$target" «query»
"""
_END_THERE = """
run "$@" -d "$target" > "$work/counted.txt" «after»
sort "$work/counted.txt" > "$work/after.txt"
"""


_OPTIONS, _OPTIONS_POSTGRESQL = "--defaults-extra-file=FILE --host=HOST", "-h HOST -U USER"
_RENAMED = "What the tables were called is gone then: name the new ones in its configuration at once."
_UNREACHED = ' || stop "the other database cannot be reached: make it first"'
_KEPT = "What is there stays as it is. Nobody is to write to it meanwhile."


def copy_script(copy: TableCopy) -> Sh:
    """The whole script. Raises InputError for names that no script can hold."""
    return Sh.joined((_head(copy), *(_postgresql(copy) if copy.dialect.is_postgresql else _mysql(copy))), "")


def _head(copy: TableCopy) -> Sh:
    begin, does = (
        (Sh.of("Renames"), Sh.of("renames them")) if copy.renames else (Sh.of("Copies"), Sh.of("copies the tables"))
    )
    return Sh.of(
        _HEAD, begin=begin, whose=comment(copy.whose), source=comment(_place(copy.source, copy.prefix)),
        target=comment(_place(copy.target, copy.new_prefix)), does=does,
        told=Sh.joined((Sh.of("# «line»\n", line=comment(text(line))) for line in copy.told), ""),
        options=Sh.of(_OPTIONS_POSTGRESQL if copy.dialect.is_postgresql else _OPTIONS),
        dump=Sh.of("dump.custom") if copy.dialect.is_postgresql else Sh.of("dump.sql"),
        make=_to_make(copy), keeps=Sh.of(_RENAMED if copy.renames else _KEPT),
    )  # fmt: skip


def _to_make(copy: TableCopy) -> Sh:
    if copy.within:
        return Sh.of("")
    how = command(Remedy.of(Action.MAKE_DATABASES, copy.whose))
    return Sh.of(
        "# The database «target» has to be there; once the plan names it: «how»\n", target=comment(copy.target),
        how=comment(how),
    )  # fmt: skip


def _mysql(copy: TableCopy) -> Iterator[Sh]:
    asked = copy_statements

    def of_session(query: Sql) -> Sh:
        return here_document(Sql.joined((asked.SESSION, query), ""))

    yield Sh.of(
        _MYSQL, base=raw(copy.source), none=_none(copy), tables=of_session(asked.tables(copy)),
        troubles=of_session(asked.troubles(copy)), before=of_session(asked.counting_query(copy)),
    )  # fmt: skip
    if copy.renames:
        yield Sh.of(_RUN, query=of_session(asked.renaming_query(copy)))
    elif copy.within:
        yield Sh.of(_RUN, query=of_session(asked.copying_query(copy)))
    else:
        absent = said(f"the database {printable(copy.target)} is not there: make it first")
        yield Sh.of(_LOAD, target=raw(copy.target), there=of_session(asked.is_there(copy)), absent=absent)
        if copy.new_prefix != copy.prefix:
            yield Sh.of(_RUN, query=of_session(asked.renaming_query(copy, is_loaded=True)))
    if copy.prefixed:
        yield Sh.of(_RUN, query=of_session(asked.values_query(copy)))
    yield Sh.of(_END, after=of_session(asked.counting_query(copy, is_new=True)))
    yield Sh.of(_COMPARE, target=said(_place(copy.target, copy.new_prefix)))


def _postgresql(copy: TableCopy) -> Iterator[Sh]:
    from kettlepost.core.databases import copy_postgresql as asked

    yield Sh.of(
        _POSTGRESQL, base=raw(asked.connection(copy.source)), target=raw(asked.connection(copy.target)),
        none=_none(copy), tables=here_document(asked.tables(copy)),
        troubles=here_document(asked.troubles(copy), Sh.of(_UNREACHED)),
        before=here_document(asked.counting_query(copy)),
    )  # fmt: skip
    if not copy.renames:
        yield Sh.of(_RESTORE)
    if copy.new_prefix != copy.prefix:
        yield Sh.of(_RUN_THERE, query=here_document(asked.renaming_query(copy)))
    if copy.prefixed:
        yield Sh.of(_RUN_THERE, query=here_document(asked.values_query(copy)))
    yield Sh.of(_END_THERE, after=here_document(asked.counting_query(copy, is_new=True)))
    yield Sh.of(_COMPARE, target=said(_place(copy.target, copy.new_prefix)))


def _none(copy: TableCopy) -> Sh:
    return said(f"no table is in {_place(copy.source, copy.prefix)}")


def _place(database: str, prefix: str) -> str:
    return printable(f"{database}, prefix {prefix}" if prefix else f"{database}, no prefix")
