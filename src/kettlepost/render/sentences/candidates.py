"""Sentences: the places where an application could go, each as the tables it would bring into the plan."""

SENTENCES = {
    "candidates-for/lies-folders-unknown": "what lies in the folders is unknown, as {account} was not surveyed yet",
    "candidates-for/more-empty-domains": "there are {empty:,} more empty domains in {account}; to weigh one, name it",
    "for-client/lies-folders-unknown": "what lies in the folders of {unknown:8} is unknown: not surveyed yet",
    "for-client/weigh-other-accounts": "to weigh other accounts, name the new domain that would go there",
    "left-out/other-account-room": "no other account has room for a domain and an installation more",
    "left-out/these-other-accounts": "these are the {most} other accounts with most room; {others:,} more have some",
}
