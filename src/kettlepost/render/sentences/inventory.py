"""Sentences: what a survey shows of folders, and what of it deserves a look."""

SENTENCES = {
    "inventory/set-aside": "what was set aside",
    "inventory/root": "root of {domain}",
    "inventory/planned": "{state} {application} in the plan",
    "inventory/names-only": "only names and sizes were to be had: placeholders, versions, control files and databases are unknown",
    "inventory/leads": "leads to {target}{out}",
    "inventory/untold": "what was not told",
    "inventory/outside": ", out of the account's home",
    "inventory/perhaps-more": "perhaps more: {most:,} and a few are recorded at the most",
}
