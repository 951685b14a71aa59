"""What a step makes of the content of one file: lines more, a line otherwise, or a file that was not there."""

from __future__ import annotations

from collections.abc import Sequence
from posixpath import relpath

from kettlepost.core.errors import InputError
from kettlepost.core.names import Folder, printable
from kettlepost.core.quoting.php import php_string
from kettlepost.core.secrets import MASK
from kettlepost.core.steps.kinds import (
    AddLines,
    CarryLines,
    CopyFolder,
    EditLine,
    MakeFolder,
    MoveFile,
    MoveFolder,
    WriteFrontFile,
)
from kettlepost.core.steps.sites import BringFolder
from kettlepost.core.webserver import carried_lines, kept_lines

WritingFiles = WriteFrontFile | AddLines | CarryLines | EditLine
"""Steps that write the text of one file."""
CarriedOut = MakeFolder | CopyFolder | BringFolder | MoveFolder | MoveFile | WritingFiles
"""Steps that a program can carry out, as they are done in the files of an account and leave nothing to decide."""


def written_place(step: WritingFiles) -> Folder:
    """Where the file lies that a step writes."""
    return (step.to if isinstance(step, CarryLines) else step.folder).below(step.file)


def content_after(step: WritingFiles, before: bytes | None, carried: bytes = b"") -> bytes:
    """What a file holds once a step is done; `before` is what it holds now, None where it is not there.

    `carried` is the control file of which lines are carried along. Line ends stay those of the file. Raises InputError
    where the line that is to be edited reads otherwise by now.
    """
    old = before or b""
    if isinstance(step, WriteFrontFile):
        return front_file(step)
    if isinstance(step, EditLine):
        return _edited(step, old)
    if isinstance(step, CarryLines):
        text = carried.decode("utf-8", "surrogateescape").replace("\r\n", "\n")
        return _with_lines(old, [written for _, written in carried_lines(text)], is_first=True)
    stand = _stand_in(old, step.lines, step.is_first)
    return old if stand else _with_lines(old, step.lines, step.is_first)


def front_file(step: WriteFrontFile) -> bytes:
    """A file that starts what lies in another folder, by a path from its own, so that both can move together."""
    way = relpath(f"/{step.starts.below(step.file)}", f"/{step.folder}")
    return f"<?php\nrequire __DIR__ . {php_string(f'/{way}')};\n".encode("utf-8", "surrogateescape")


def _stand_in(old: bytes, lines: Sequence[str], is_first: bool) -> bool:
    """Whether lines stand at the beginning of a file already, or at its end."""
    there = old.decode("utf-8", "surrogateescape").replace("\r\n", "\n").rstrip("\n").split("\n")
    wanted = [*lines]
    return bool(wanted) and (there[: len(wanted)] if is_first else there[-len(wanted) :]) == wanted


def _with_lines(old: bytes, lines: Sequence[str], is_first: bool) -> bytes:
    end = b"\r\n" if b"\r\n" in old else b"\n"
    added = b"".join(line.encode("utf-8", "surrogateescape") + end for line in lines)
    if not is_first:
        return old + (end if old and not old.endswith(b"\n") else b"") + added
    mark = b"\xef\xbb\xbf" if old.startswith(b"\xef\xbb\xbf") else b""
    return mark + added + old.removeprefix(mark)


def _edited(step: EditLine, old: bytes) -> bytes:
    """With one line written otherwise, which may go on over several."""
    place = printable(str(written_place(step)))
    if MASK in step.old or MASK in (step.new or ""):
        raise InputError(f"{place}: line {step.line} holds a secret, which nobody else has read; edit it by hand")
    text = old.decode("utf-8", "surrogateescape")
    written = text.split("\n")[step.line - 1 : step.line]
    reads = [one.strip() for one in written] == [step.old]
    if not reads and f"{step.line} {printable(step.old)}" not in kept_lines(text):
        raise InputError(f"{place}: line {step.line} does not read {printable(step.old)} any more; look again")
    lines = text.split("\n")
    first = last = step.line - 1
    while lines[last].removesuffix("\r").endswith("\\") and last + 1 < len(lines):
        last += 1
    end = "\r" if lines[last].endswith("\r") else ""
    lines[first : last + 1] = [] if step.new is None else [step.new + end]
    return "\n".join(lines).encode("utf-8", "surrogateescape")
