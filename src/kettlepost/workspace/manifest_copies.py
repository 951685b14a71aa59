"""Copies of manifests, kept with the plan, so that what was set aside is known without a look at its host."""

from __future__ import annotations

from kettlepost.core.clearing import LARGEST_MANIFEST, Manifest, decode_manifest, encode_manifest
from kettlepost.core.errors import InputError
from kettlepost.workspace.files import OWN_FOLDER, own_folder, read_at_most, remove, write_whole
from kettlepost.workspace.plan_folder import PlanFolder


def keep_copy(plan: PlanFolder, manifest: Manifest) -> None:
    """Keep a copy of a manifest with the plan, readable by who keeps it alone."""
    place = own_folder(plan.path) / "set-aside"
    write_whole(place / f"{manifest.id}.jsonl", encode_manifest(manifest), mode=0o600)


def copies(plan: PlanFolder) -> dict[str, Manifest]:
    """The manifests of which a copy is kept with the plan; damaged ones tell nothing."""
    place = plan.path / OWN_FOLDER / "set-aside"
    found: dict[str, Manifest] = {}
    for path in sorted(place.glob("*.jsonl")) if not place.is_symlink() else ():
        copy = copy_of(plan, path.stem)
        if copy is not None and copy.id == path.stem:
            found[copy.id] = copy
    return found


def copy_of(plan: PlanFolder, number: str) -> Manifest | None:
    """The copy of one manifest; None where there is none that can be read."""
    if "/" in number or number.startswith("."):
        return None
    path = plan.path / OWN_FOLDER / "set-aside" / f"{number}.jsonl"
    try:
        return decode_manifest(read_at_most(path, LARGEST_MANIFEST, follow=False), str(path))
    except (OSError, InputError):
        return None


def keep_or_drop(plan: PlanFolder, number: str, manifest: Manifest | None) -> None:
    """Keep the copy as the manifest is now, or drop it where nothing is set aside any more."""
    if manifest is not None:
        keep_copy(plan, manifest)
    elif "/" not in number:
        remove(plan.path / OWN_FOLDER / "set-aside" / f"{number}.jsonl")
