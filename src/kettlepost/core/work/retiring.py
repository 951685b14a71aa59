"""Steps for what is retired: files, tables, the entry; what others use stays, and is named."""

from __future__ import annotations

from collections.abc import Iterator

from kettlepost.core.plan import Database, Installation
from kettlepost.core.remedies import Do, Remedy
from kettlepost.core.rules.removal import removal
from kettlepost.core.steps import DeleteFolder, DropTables
from kettlepost.core.work.ground import Ground
from kettlepost.core.work.records import HOST, YOU, Item, WorkKind, WorkStep


def retired_steps(ground: Ground, installation: Installation) -> Iterator[WorkStep]:
    """Files first, then tables, then the entry; each with a copy before, and nothing that is anybody else's."""
    site, layout, contents = installation.address, ground.layout, ground.contents
    folder = layout.lies_now(installation)
    needs: list[str] = []
    if folder is not None:
        found = contents.applications.get(folder) if contents is not None else None
        found = found if found is not None and found.application == installation.application else None
        way = removal(layout, folder, installation, found)
        emptied = next((step for step in way.steps if isinstance(step, DeleteFolder)), None)
        if emptied is not None:
            step = ground.step(
                WorkKind.REMOVE_FILES, site, YOU,
                [
                    (Item.FOLDER, folder.shown), (Item.NOTE, way.words if found is not None else None),
                    (Item.STAYS, ", ".join(place.shown for place in emptied.stays)),
                ],
                seen=None if contents is None else found is None,
            )  # fmt: skip
            step.remedies = [way.remedy] if way.remedy is not None and found is not None else []
            yield step
            needs.append(step.id)
        dropped = next((step for step in way.steps if isinstance(step, DropTables)), None)
        if dropped is not None:
            yield (tables := _tables(ground, installation, dropped.database, needs))
            needs = [*needs, tables.id]
    forget = ground.step(WorkKind.FORGET, site, YOU, needs=needs, seen=False)
    forget.remedies = [Remedy.of(Do.FORGET, str(site))]
    yield forget


def _tables(ground: Ground, installation: Installation, base: Database, needs: list[str]) -> WorkStep:
    """The tables that nobody else uses; whether they are there is known where the server was read."""
    seen = ground.layout.databases
    there = seen.named(base.name) if seen is not None else None
    left = there is not None and bool(there.beginning(base.prefix))
    return ground.step(
        WorkKind.REMOVE_TABLES, installation.address, HOST,
        [
            (Item.DATABASE, base.name), (Item.PREFIX, base.prefix),
            (Item.NOTE, "keep a dump first, and look whether it can be read"),
        ],
        needs, None if seen is None or not (seen.is_whole or left) else not left,
    )  # fmt: skip
