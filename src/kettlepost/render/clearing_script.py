"""A clearing as a shell script (POSIX.1-2024) with the checks that the program makes."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from kettlepost.core.clearing import FileEntry, Removal
from kettlepost.core.errors import InputError
from kettlepost.core.quoting.sh import Sh, comment, format_of, said, word
from kettlepost.core.survey import SET_ASIDE

if TYPE_CHECKING:
    from kettlepost.workspace.set_aside.prepare import PreparedClearing

_HEAD = """\
#!/bin/sh
# Takes out of the way what is in «told», account «account».
# Run it in the account's home: sh FILE        sets aside
#                               sh FILE back   puts back
# Nothing is deleted and nothing written over; what is not as it was surveyed is left where it is, and told.
LC_ALL=C
export LC_ALL
set -u
place=«place»
way=${1:-aside}
left=0
case $way in aside|back) ;; *) echo "say nothing, or back" >&2; exit 2 ;; esac
name() { path=$(printf "$1_"); path=${path%_}; }
name «folder»
if [ "$way" = back ] && [ -d "./$place" ]; then :
elif [ ! -d "./$path" ] || [ -L "./$path" ]; then
  printf 'here is no folder %s: run this in the home of the account\n' «shown» >&2; exit 2
fi
if [ "$way" = aside ]; then
  if [ -L «aside» ]; then echo «aside» "is a link: nothing was moved" >&2; exit 2; fi
  (umask 077 && mkdir -p "$place") || exit 3
fi
told() { printf '%s: %s\\n' "$path" "$1" >&2; left=1; }
is_there() { [ -e "$1" ] || [ -L "$1" ]; }
no_links() { # no folder on the way is a link
  around=$1
  while :; do
    case $around in */*) around=${around%/*} ;; *) return 0 ;; esac
    if [ -L "$around" ]; then return 1; fi
  done
}
move() { # the kind; of a file how many bytes, or -, of a folder how many files; the path as printf has it
  name "$3"
  from=./$path to=./$place/$path
  if [ "$way" = back ]; then from=./$place/$path to=./$path; fi
  if ! is_there "$from"; then
    if ! is_there "$to"; then told "is not there any more"; fi
    return
  fi
  if is_there "$to"; then told "something is there already"; return; fi
  if ! no_links "$from" || ! no_links "$to"; then told "a link stands for a folder on the way"; return; fi
  case $1 in
    file) if [ -L "$from" ] || [ ! -f "$from" ]; then told "is no file any more"; return; fi
          if [ "$way" = aside ] && [ "$2" != - ] && [ "$(wc -c < "$from")" -ne "$2" ]; then
            told "has another size than it had"; return; fi ;;
    folder) if [ -L "$from" ] || [ ! -d "$from" ]; then told "is no folder any more"; return; fi
          number=$(find "$from" ! -type d -print0 | tr -dc '\\000' | wc -c)
          if [ "$way" = aside ] && [ "$number" -ne "$2" ]; then told "holds other files than it did"; return; fi ;;
    link) if [ ! -L "$from" ]; then told "is no link any more"; return; fi ;;
  esac
  mkdir -p "${to%/*}" || { told "cannot be moved"; return; }
  mv -n "$from" "$to" || told "cannot be moved"
  if is_there "$from"; then told "was not moved"; fi
}
"""
_END = """\
if [ "$left" -ne 0 ]; then echo "some of it was left where it is" >&2; exit 1; fi
if [ "$way" = aside ]; then echo "set aside in $place"; else
  find "$place" -depth -type d -exec rmdir {} + 2>/dev/null
  rmdir «parent» «aside» 2>/dev/null
  echo "put back"
fi
exit 0
"""


def clearing_script(clearing: PreparedClearing) -> Iterator[Sh]:
    """The script, a piece at a time. Raises InputError where nothing is to be moved."""
    if clearing.refused:
        raise InputError(f"nothing is to be moved: {clearing.refused[0]}")
    if not clearing.selection.takes:
        raise InputError("nothing is to be moved: no script was written")
    folder = clearing.place.folder
    parent = Sh.of("«aside»/«number»", aside=word(SET_ASIDE), number=word(clearing.number))
    yield Sh.of(
        _HEAD, shown=said(folder.shown), told=comment(folder.shown), account=comment(clearing.target.account),
        place=Sh.of("«parent»/files", parent=parent), folder=format_of(str(folder)), aside=word(SET_ASIDE),
    )  # fmt: skip
    sizes = {entry.path: entry for entry in clearing.tree.below(clearing.tree.top)}
    for taken in clearing.selection.takes:
        yield Sh.of(
            "move «kind» «measure» «path»\n", kind=word(taken.kind), measure=_measure(taken, sizes.get(taken.path)),
            path=format_of(taken.path),
        )  # fmt: skip
    yield Sh.of(_END, parent=parent, aside=word(SET_ASIDE))


def _measure(taken: Removal, entry: FileEntry | None) -> Sh | int:
    """What of a thing is compared before it is moved: how many files a folder holds, how many bytes a file."""
    if taken.kind == "folder":
        return taken.files
    return entry.size if entry is not None and entry.size >= 0 and taken.kind == "file" else Sh.of("-")
