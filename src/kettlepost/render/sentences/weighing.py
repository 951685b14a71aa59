"""Sentences: weighing places against each other."""

SENTENCES = {
    "passed-over/lies-inside-live": "{address} lies inside of a live application, and comes first only where that is lived with",
    "there/unknown-surveyed-yet": "unknown: not surveyed yet",
    "there/does-exist-yet": "does not exist yet",
    "there/only": "only {pages:?the placeholder|placeholders} {pages}",
    "there/empty-folder": "an empty folder",
    "there/among-them-placeholder": ", among them the placeholder {pages}",
    "now/account-name": "account {owner} has that name",
    "now/nothing-declared-yet": "nothing: {address} is not declared yet",
    "shared/host-of-others": "the host name and its cookies with {told}",
    "shared/cookies-sets-subdomains": "cookies that {parent} sets for its subdomains",
    "shared/host-of-whatever-answers": "the host name and its cookies with whatever answers at {address}",
    "shared/control-file": "the control file {above}",
    "weigh/domain-theirs": "{name} has no domain of theirs to be at",
    "weigh/each-account-best": "of each account the best place is shown; name a domain to see all of its places",
}
