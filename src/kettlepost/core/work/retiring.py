"""Steps for what is retired: files, tables, the entry; what others use stays, and is named."""

from __future__ import annotations

from collections.abc import Iterator

from kettlepost.core.layout import own_tables
from kettlepost.core.plan import Installation
from kettlepost.core.remedies import Do, Remedy
from kettlepost.core.rules.removal import remaining_words, removal
from kettlepost.core.work.ground import Ground
from kettlepost.core.work.records import HOST, YOU, Item, WorkKind, WorkStep


def retired_steps(ground: Ground, installation: Installation) -> Iterator[WorkStep]:
    """Files first, then tables, then the entry; each with a copy before, and nothing of anybody else's."""
    site, layout, contents = installation.address, ground.layout, ground.contents
    folder = layout.lies_now(installation)
    needs: list[str] = []
    if folder is not None:
        found = contents.applications.get(folder) if contents is not None else None
        is_there = found is not None and found.application == installation.application
        way = removal(layout, folder, installation, found)
        step = ground.step(
            WorkKind.REMOVE_FILES, site, YOU,
            [(Item.FOLDER, folder.shown), (Item.NOTE, way.words if is_there else None)],
            seen=None if contents is None else not is_there,
        )  # fmt: skip
        step.remedies = [way.remedy] if way.remedy is not None and is_there else []
        yield step
        needs.append(step.id)
    base, seen_bases = installation.database, layout.databases
    if base is not None and folder is not None:
        tables = own_tables(layout, folder, installation, None)
        there = seen_bases.named(base.name) if seen_bases is not None else None
        left = there is not None and bool(there.beginning(base.prefix))
        told = ", ".join(remaining_words(tables)) or f"the tables in {base.name} that begin with {base.prefix}"
        yield (
            gone := ground.step(
                WorkKind.REMOVE_TABLES, site, HOST,
                [(Item.DATABASE, base.name), (Item.PREFIX, base.prefix), (Item.NOTE, f"keep a dump first; {told}")],
                needs, None if seen_bases is None else not left,
            )
        )  # fmt: skip
        needs = [*needs, gone.id]
    forget = ground.step(WorkKind.FORGET, site, YOU, needs=needs, seen=False)
    forget.remedies = [Remedy(Do.FORGET, str(site))]
    yield forget
