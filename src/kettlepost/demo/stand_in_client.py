"""The client and the dumper of the demo's stand-in, with the options that the scripts for a real one use.

`python -m kettlepost.demo.stand_in_client [--dump] -PPORT [OPTION]... [DATABASE [TABLE]...]`
"""

from __future__ import annotations

import re
import sys
from typing import Any

_STATEMENT = re.compile(r"(?:'(?:[^']|'')*'|`(?:[^`]|``)*`|[^;'`])+", re.DOTALL)


def main(words: list[str]) -> int:
    """Run what is on standard input, a statement after the other, up to the first error; or dump tables."""
    import pymysql

    port = next((int(word[2:]) for word in words if word.startswith("-P")), 0)
    names = [word for word in words if not word.startswith("-")]
    connection = pymysql.connect(host="127.0.0.1", port=port, user="root", autocommit=True)
    if names:
        connection.select_db(names[0])
    with connection, connection.cursor() as cursor:
        if "--dump" in words:
            _dump(cursor, names[0], names[1:])
            return 0
        text = re.sub(r"(?m)^--.*$", "", sys.stdin.read())
        for statement in filter(None, (found.strip() for found in _STATEMENT.findall(text))):
            try:
                cursor.execute(statement)
            except pymysql.MySQLError as error:
                sys.stderr.write(f"ERROR {error.args[0]}: {error.args[1]}\n")
                return 1
            for row in cursor.fetchall() if cursor.description else ():
                sys.stdout.write("\t".join("NULL" if value is None else str(value) for value in row) + "\n")
    return 0


def _dump(cursor: Any, base: str, tables: list[str]) -> None:
    for table in tables:
        cursor.execute(f"SELECT * FROM `{base}`.`{table}`")  # noqa: S608 (of the demo's own tables)
        columns = ", ".join(f"`{column[0]}`" for column in cursor.description)
        sys.stdout.write(f"CREATE TABLE `{table}` ({columns});\n")
        for row in cursor.fetchall():
            values = ", ".join("NULL" if value is None else "'" + str(value).replace("'", "''") + "'" for value in row)
            sys.stdout.write(f"INSERT INTO `{table}` VALUES ({values});\n")  # noqa: S608 (as above)
    sys.stdout.write("-- Dump completed\n")


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
