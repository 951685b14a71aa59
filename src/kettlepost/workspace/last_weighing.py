"""What was weighed last, so that a place can be taken by its number."""

from __future__ import annotations

from contextlib import suppress
from pathlib import Path

import msgspec

from kettlepost.core.errors import InputError, OutsideError
from kettlepost.core.placing import Weighing, Wish
from kettlepost.workspace.files import OWN_FOLDER, is_plain, is_trusted, own_folder, read_at_most, write_whole

_LARGEST = 1 << 20


class LastWeighed(msgspec.Struct):
    """A wish, and the address and folder of each of its places, best first."""

    wish: Wish
    places: list[tuple[str, str]]


def remember(folder: Path, weighing: Weighing) -> None:
    """Keep what was weighed. A folder that cannot be written to only means that it is to be spelled out."""
    with suppress(OSError, OutsideError, InputError):
        last = LastWeighed(weighing.wish, summary_of(weighing))
        write_whole(own_folder(folder) / "weighed", msgspec.json.encode(last))


def recall(folder: Path) -> LastWeighed:
    """What was weighed last. Raises InputError when that is not known."""
    path = folder / OWN_FOLDER / "weighed"
    if is_plain(path) and is_trusted(folder):
        with suppress(OSError, msgspec.MsgspecError):
            return msgspec.json.decode(read_at_most(path, _LARGEST, follow=False), type=LastWeighed)
    raise InputError("nothing was weighed here yet: name application and address, or weigh first")


def summary_of(weighing: Weighing) -> list[tuple[str, str]]:
    return [(str(weighed.place.address), weighed.place.folder.shown) for weighed in weighing.places]
