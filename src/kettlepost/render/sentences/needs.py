"""Sentences: the rule about what applications need to run."""

SENTENCES = {
    "php/title": "{known} at {address} needs PHP {wanted}, and gets {version}",
    "php/why": "its installer refuses, or visitors see an error instead of a page",
    "php/host-run-version": "have the host run a version of PHP that is {wanted} in {where}, then write that down as php",
    "php/release-you-install": "if a release of {known} that you install needs less, say what it needs in an [[application]] of kettlepost.toml",
    "needs-unmet/title": "{known} at {address} wants {database} for its database, and the account has {server}",
    "needs-unmet/why": "it cannot make its tables there",
    "needs-unmet/put-account": "put it on an account with {database}",
    "needs-unmet/account-such-server": "if the account has such a server as well, say so: database_server in its [account]",
}
