"""Clearing a folder: what has to go, what stays and for whom, and the manifest by which all of it can be put back."""

from kettlepost.core.clearing.entries import EntryKind, FileEntry, Tree, listed_tree, tree_of
from kettlepost.core.clearing.holders import (
    ClearedFolder,
    KeepReason,
    KeptEntry,
    around,
    holders,
    place_of,
    set_aside_folder,
)
from kettlepost.core.clearing.live import Covering, InUse, covering, live_in
from kettlepost.core.clearing.manifest import (
    LARGEST_MANIFEST,
    Manifest,
    ManifestHead,
    ManifestItem,
    SetAsideNumber,
    decode_manifest,
    encode_manifest,
    is_plain,
    taken_out,
)
from kettlepost.core.clearing.selection import Content, ContentKind, Measure, Removal, RemovalReason, Selection, select

__all__ = [
    "LARGEST_MANIFEST",
    "ClearedFolder",
    "Content",
    "ContentKind",
    "Covering",
    "EntryKind",
    "FileEntry",
    "InUse",
    "KeepReason",
    "KeptEntry",
    "Manifest",
    "ManifestHead",
    "ManifestItem",
    "Measure",
    "Removal",
    "RemovalReason",
    "Selection",
    "SetAsideNumber",
    "Tree",
    "around",
    "covering",
    "decode_manifest",
    "encode_manifest",
    "holders",
    "is_plain",
    "listed_tree",
    "live_in",
    "place_of",
    "select",
    "set_aside_folder",
    "taken_out",
    "tree_of",
]
