"""Host names, folders and addresses: parsed once, and in normal form from then on."""

from kettlepost.core.names.address import Address
from kettlepost.core.names.folder import HOME, Folder, nested_pairs, strictly_inside
from kettlepost.core.names.host import HostName, is_ip
from kettlepost.core.names.international import readable
from kettlepost.core.names.nearest import Suggestions, did_you_mean, nearest
from kettlepost.core.names.written import InvalidName, printable, quoted, unprintable

__all__ = [
    "HOME",
    "Address",
    "Folder",
    "HostName",
    "InvalidName",
    "Suggestions",
    "did_you_mean",
    "is_ip",
    "nearest",
    "nested_pairs",
    "printable",
    "quoted",
    "readable",
    "strictly_inside",
    "unprintable",
]
