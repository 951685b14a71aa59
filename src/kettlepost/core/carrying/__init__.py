"""Steps in the files of an account that the program carries out: what each does one by one, and the record of it."""

from kettlepost.core.carrying.records import (
    CarriedHead,
    CarriedItem,
    CarriedRecord,
    FileChange,
    decode_head,
    decode_record,
    encode_record,
    modes_of,
    tops,
)
from kettlepost.core.carrying.selection import copied_items, in_the_way, left_out

__all__ = [
    "CarriedHead",
    "CarriedItem",
    "CarriedRecord",
    "FileChange",
    "copied_items",
    "decode_head",
    "decode_record",
    "encode_record",
    "in_the_way",
    "left_out",
    "modes_of",
    "tops",
]
