"""Clearing a folder: what has to go, what stays and for whom, and the manifest by which all of it can be put back."""

from kettlepost.core.clearing.entries import Entry, EntryKind, Tree, listed_tree, tree_of
from kettlepost.core.clearing.holders import Keeper, Place, Stays, around, holders, place_of, shelf_of
from kettlepost.core.clearing.live import Covering, InUse, covering, live_in
from kettlepost.core.clearing.manifest import (
    LARGEST_MANIFEST,
    Head,
    Item,
    Manifest,
    SetAsideNumber,
    decode_manifest,
    encode_manifest,
    is_plain,
    taken_out,
)
from kettlepost.core.clearing.selection import Content, ContentKind, Measure, Selection, Taken, Why, select

__all__ = [
    "LARGEST_MANIFEST",
    "Content",
    "ContentKind",
    "Covering",
    "Entry",
    "EntryKind",
    "Head",
    "InUse",
    "Item",
    "Keeper",
    "Manifest",
    "Measure",
    "Place",
    "Selection",
    "SetAsideNumber",
    "Stays",
    "Taken",
    "Tree",
    "Why",
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
    "shelf_of",
    "taken_out",
    "tree_of",
]
