"""Bringing tables from one account to another as a shell script (POSIX.1-2024), in two halves: each is run where its
database server is reached, and a folder goes from the one to the other."""

from __future__ import annotations

from collections.abc import Iterator

from kettlepost.core.databases import TableCopy, copy_statements
from kettlepost.core.names import printable
from kettlepost.core.quoting.sh import Sh, comment, here_document, raw, said
from kettlepost.core.quoting.sql import Sql
from kettlepost.core.remedies import Action, Remedy
from kettlepost.render.remedies import command

_HEAD = """\
#!/bin/sh
# Brings the tables of «whose»: «source» of account «account» to «target» of account «other»
# Run it twice, each time where the account's database server is reached, with the options by which its client logs in:
#   sh FILE out FOLDER «options»
#   sh FILE in FOLDER «options»
# Between the two FOLDER goes along to where the second is run. It holds all data of the tables: remove it in the end.
# "out" only reads: it writes a dump, looks whether that is whole, and counts the rows. "in" writes into a database that
# has no such tables yet, and counts again. Nobody is to write to the old tables meanwhile.
# The database «target» has to be there: «how»
set -eu
umask 077
usage() { echo "name out or in, then a folder: sh FILE out FOLDER OPTIONS" >&2; exit 2; }
[ $# -ge 2 ] || usage
half=$1
work=$2
shift 2
[ -d "$work" ] || { echo "$work is no folder: make it first" >&2; exit 2; }
stop() { printf '%s\\n' "$1" >&2; exit 1; }
"""
_MYSQL = """\
if command -v mariadb >/dev/null 2>&1; then client=mariadb dumper=mariadb-dump; else client=mysql dumper=mysqldump; fi
ask() { "$client" "$@" --default-character-set=utf8mb4 --batch --skip-column-names --raw; }
# runs what a query writes
run() {
  ask "$@" > "$work/step.sql" || stop "the server refused: look what is there"
  ask "$@" < "$work/step.sql" || stop "the server refused: look what is there, and in $work/step.sql"
  rm "$work/step.sql"
}
dump() {
  while IFS= read -r name; do set -- "$@" "$name"; done < "$work/tables.txt"
  "$dumper" "$@"
}

out() {
base=«base»
# which tables: those with the prefix, but for longer prefixes of others
ask "$@" > "$work/tables.txt" «tables»
[ -s "$work/tables.txt" ] || stop «none»
number=$(wc -l < "$work/tables.txt")
ask "$@" > "$work/troubles.txt" «troubles»
if [ -s "$work/troubles.txt" ]; then cat "$work/troubles.txt" >&2; stop "nothing was changed"; fi
dump "$@" --default-character-set=utf8mb4 --single-transaction --no-tablespaces --skip-opt --quick --create-options \\
  --extended-insert --set-charset --hex-blob --triggers -- "$base" > "$work/dump.sql" \\
  || stop "the dump failed: nothing was changed"
tail -n 1 "$work/dump.sql" | grep -q '^-- Dump completed' || stop "the dump is not whole: nothing was changed"
[ "$(grep -c '^CREATE TABLE ' "$work/dump.sql")" -eq "$number" ] || stop "the dump lacks a table: nothing was changed"
run "$@" > "$work/counted.txt" «before»
LC_ALL=C sort "$work/counted.txt" > "$work/before.txt"
rm "$work/counted.txt"
[ "$(wc -l < "$work/before.txt")" -eq "$number" ] || stop "a table could not be counted: nothing was changed"
echo "dumped" $number "tables to $work/dump.sql"
}

in_() {
number=$(wc -l < "$work/tables.txt")
tail -n 1 "$work/dump.sql" | grep -q '^-- Dump completed' || stop "$work/dump.sql is not whole: bring it along anew"
there=$(ask "$@" «there»
)
[ -n "$there" ] || stop «absent»
ask "$@" > "$work/troubles.txt" «taken»
if [ -s "$work/troubles.txt" ]; then cat "$work/troubles.txt" >&2; stop "nothing was changed"; fi
# what the server has no name for stops it before anything is made
ask "$@" > "$work/known.txt" «collations»
grep -e '^  ' -e '^) ' "$work/dump.sql" | grep -o 'COLLATE[= ][A-Za-z0-9_]*' | sed 's/^COLLATE.//' \\
  | LC_ALL=C sort -u > "$work/wanted.txt"
LC_ALL=C sort -u "$work/known.txt" | LC_ALL=C comm -13 - "$work/wanted.txt" > "$work/strange.txt"
if [ -s "$work/strange.txt" ]; then
  cat "$work/strange.txt" >&2; stop "this server has no such collation: nothing was changed"
fi
# without a line that older clients do not know, and without whose triggers they were
sed -e '1{/enable the sandbox mode/d' -e '}' \\
  -e '/^\\/\\*!50003 CREATE\\*\\//s/\\/\\*!50017 DEFINER=`[^`]*`@`[^`]*`\\*\\///' "$work/dump.sql" \\
  | "$client" "$@" --default-character-set=utf8mb4 -- «target» \\
  || stop "it could not be loaded: what is there of it may be dropped"
«then»\
run "$@" > "$work/counted.txt" «after»
LC_ALL=C sort "$work/counted.txt" > "$work/after.txt"
"""
_POSTGRESQL = """\
ask() { psql "$@" --no-psqlrc --quiet --tuples-only --no-align --set ON_ERROR_STOP=1; }
run() {
  ask "$@" > "$work/step.sql" || stop "the server refused: look what is there"
  ask "$@" < "$work/step.sql" || stop "the server refused: look what is there, and in $work/step.sql"
  rm "$work/step.sql"
}
dump() {
  while IFS= read -r name; do set -- "$@" -t "$name"; done < "$work/tables.txt"
  pg_dump "$@" --format=custom --no-owner --no-privileges --file="$work/dump.custom" --dbname="$base"
}
base=«base»
target=«target»

out() {
ask "$@" -d "$base" > "$work/tables.txt" «tables»
[ -s "$work/tables.txt" ] || stop «none»
number=$(wc -l < "$work/tables.txt")
dump "$@" || stop "the dump failed: nothing was changed"
pg_restore --list "$work/dump.custom" > "$work/list.txt" || stop "the dump cannot be read: nothing was changed"
[ "$(grep -c '^[0-9; ]* TABLE [^D]' "$work/list.txt")" -eq "$number" ] \\
  || stop "the dump lacks a table: nothing was changed"
rm "$work/list.txt"
run "$@" -d "$base" > "$work/counted.txt" «before»
LC_ALL=C sort "$work/counted.txt" > "$work/before.txt"
rm "$work/counted.txt"
echo "dumped" $number "tables to $work/dump.custom"
}

in_() {
number=$(wc -l < "$work/tables.txt")
ask "$@" -d "$target" > "$work/troubles.txt" «taken»
if [ -s "$work/troubles.txt" ]; then cat "$work/troubles.txt" >&2; stop "nothing was changed"; fi
pg_restore "$@" --exit-on-error --single-transaction --no-owner --no-privileges --dbname="$target" \\
  "$work/dump.custom" || stop "it could not be loaded: nothing is in the other database"
«then»\
run "$@" -d "$target" > "$work/counted.txt" «after»
LC_ALL=C sort "$work/counted.txt" > "$work/after.txt"
"""
_COMPARE = """\
rm "$work/counted.txt"
if ! cmp -s "$work/before.txt" "$work/after.txt"; then
  diff "$work/before.txt" "$work/after.txt" >&2 || true
  stop "the rows differ: see before.txt and after.txt in $work"
fi
echo $number "tables with the same rows are in" «target»
}

case $half in
  out)
    for file in dump.sql dump.custom tables.txt before.txt; do
      if [ -e "$work/$file" ]; then echo "$work/$file is there already: name another folder" >&2; exit 2; fi
    done
    out "$@" ;;
  in)
    for file in tables.txt before.txt; do
      if [ ! -e "$work/$file" ]; then echo "$work/$file is not there: run out first" >&2; exit 2; fi
    done
    in_ "$@" ;;
  *) usage ;;
esac
"""
_RUN, _RUN_THERE = 'run "$@" «query»\n', 'run "$@" -d "$target" «query»\n'
_UNREACHED = ' || stop "the other database cannot be reached: make it first"'
_OPTIONS, _OPTIONS_POSTGRESQL = "--defaults-extra-file=FILE --host=HOST", "-h HOST -U USER"


def bring_script(copy: TableCopy) -> Sh:
    """The whole script. Raises InputError for names that no script can hold."""
    target, how = copy.target, command(Remedy.of(Action.MAKE_DATABASES, copy.whose))
    head = Sh.of(
        _HEAD, whose=comment(copy.whose), source=comment(_place(copy.source, copy.prefix)),
        account=comment(copy.account), other=comment(copy.other), target=comment(target), how=comment(how),
        options=Sh.of(_OPTIONS_POSTGRESQL if copy.dialect.is_postgresql else _OPTIONS),
    )  # fmt: skip
    body = _postgresql(copy) if copy.dialect.is_postgresql else _mysql(copy)
    end = Sh.of(_COMPARE, target=said(_place(target, copy.new_prefix)))
    return Sh.joined((head, body, end), "")


def _mysql(copy: TableCopy) -> Sh:
    asked = copy_statements

    def of_session(query: Sql) -> Sh:
        return here_document(Sql.joined((asked.SESSION, query), ""))

    absent = said(f"the database {printable(copy.target)} is not there: make it first")
    return Sh.of(
        _MYSQL, base=raw(copy.source), none=_none(copy), tables=of_session(asked.tables(copy)),
        troubles=of_session(asked.left_behind(copy)), before=of_session(asked.counting_query(copy)),
        target=raw(copy.target), there=of_session(asked.is_there(copy)), absent=absent,
        taken=of_session(asked.taken_names(copy)), collations=of_session(asked.COLLATIONS),
        then=Sh.joined((Sh.of(_RUN, query=of_session(one)) for one in _renamed(copy)), ""),
        after=of_session(asked.counting_query(copy, is_new=True)),
    )  # fmt: skip


def _renamed(copy: TableCopy) -> Iterator[Sql]:
    if copy.new_prefix != copy.prefix:
        yield copy_statements.renaming_query(copy, is_loaded=True)
    if copy.prefixed:
        yield copy_statements.values_query(copy)


def _postgresql(copy: TableCopy) -> Sh:
    from kettlepost.core.databases import copy_postgresql as asked

    then = [asked.renaming_query(copy)] if copy.new_prefix != copy.prefix else []
    then += [asked.values_query(copy)] if copy.prefixed else []
    return Sh.of(
        _POSTGRESQL, base=raw(asked.connection(copy.source)), target=raw(asked.connection(copy.target)),
        none=_none(copy), tables=here_document(asked.tables(copy)),
        taken=here_document(asked.troubles(copy), Sh.of(_UNREACHED)),
        before=here_document(asked.counting_query(copy)),
        then=Sh.joined((Sh.of(_RUN_THERE, query=here_document(one)) for one in then), ""),
        after=here_document(asked.counting_query(copy, is_new=True)),
    )  # fmt: skip


def _none(copy: TableCopy) -> Sh:
    return said(f"no table is in {_place(copy.source, copy.prefix)}")


def _place(database: str, prefix: str) -> str:
    return printable(f"{database}, prefix {prefix}" if prefix else f"{database}, no prefix")
