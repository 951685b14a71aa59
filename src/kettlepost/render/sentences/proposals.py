"""Sentences: keeping a plan."""

SENTENCES = {
    "adopt/text": "{application} in {folder}",
    "adopt/also-reached": ", also reached at {addresse:3}",
    "adopt/staging-site": ", a staging site of {original}",
    "adopt/text-2": "{application} at {address}",
    "adopt/adopt": "to adopt: {words}, at {addresse}{others}{of}",
    "adopt/left-out": "left out: {words}: {why_not}",
    "adopt/make-live": "to make live: {live}",
    "adopt/nothing-left-adopt": "nothing is left to adopt in {layout}",
    "why-not/address-leads": "no address leads there",
    "why-not/use-far-files": "it is not in use, as far as files tell",
    "why-not/looks-like-copy": "it looks like a copy or a staging site of {original}",
    "why-not/neither-catalogue-nor": "{application} is neither in the catalogue nor in kettlepost.toml any more",
    "placed/account": "{application} at {address} in {folder}, account {account}",
    "placed/now": "there now: {there}",
    "placed/takes": "takes {wordses}",
    "add-domain/host-allows-folder": (
        "if the host allows no folder but inside {root}, take {inside}: then {domain} is also reached at "
        "{Address}, obeys the control files of {root}, and goes when that is cleared"
    ),
    "drop-domain/hangs-name-servers": "hangs on {domain} and its name servers: {one}",
    "changed-meanings/more": "and {moved:,} more",
    "remains/bytes": "{files:=file} in {folder}, {bytes:,} bytes",
    "remains/whatever-lies-surveyed": "whatever lies in {folder}, which was not surveyed yet",
    "remains/host-counts-until": (
        "at the host it counts until it is removed there: {total:,} of {allowed:,} {use} now"
    ),
    "granted/text-2": "{application} at {address} in {folder}",
    "left-unreached/stays-address-leads": "{application} in {folder} stays, and no address leads to it then",
}
