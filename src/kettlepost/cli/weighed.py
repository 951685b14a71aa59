"""What was weighed last, so that `kettlepost place --as N` knows what N is."""

from __future__ import annotations

from contextlib import suppress
from pathlib import Path

import msgspec

from kettlepost.core.errors import InputError, OutsideError
from kettlepost.core.placing import Weighing, Wish
from kettlepost.core.plan import OWN_FOLDER, own_folder, write_whole


class LastWeighed(msgspec.Struct):
    """A wish, and the address and folder of each of its places, best first."""

    wish: Wish
    places: list[tuple[str, str]]


def remember(folder: Path, weighing: Weighing) -> None:
    """Keep what was weighed. A folder that cannot be written to only means that it is to be spelled out."""
    with suppress(OSError, OutsideError):
        last = LastWeighed(weighing.wish, summary_of(weighing))
        write_whole(own_folder(folder) / "weighed", msgspec.json.encode(last))


def recall(folder: Path) -> LastWeighed:
    """What was weighed last. Raises InputError when that is not known."""
    with suppress(OSError, msgspec.MsgspecError):
        return msgspec.json.decode((folder / OWN_FOLDER / "weighed").read_bytes(), type=LastWeighed)
    raise InputError("nothing was weighed here yet: name APPLICATION and ADDRESS, or run 'kettlepost weigh' first")


def summary_of(weighing: Weighing) -> list[tuple[str, str]]:
    return [(str(one.place.address), one.place.folder.shown) for one in weighing.places]
