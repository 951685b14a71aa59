"""Sentences: rules about the addresses of one account."""

SENTENCES = {
    "address-twice/title": "{there} are at one address",
    "address-twice/why": "whichever is deployed later overwrites the other",
    "address-twice/gone-mark-state": 'if {application} is gone, mark it state = "retired"; if it was written twice, remove one',
    "www-split/title": "{address} leads to {folder}, {www} to {www_folder}",
    "www-split/why": "visitors take both for one site, and see one or the other by what they type",
    "www-split/they-meant-differ": 'if they are meant to differ, write www = "apart" at {place}',
    "www-split/write-www-both": 'write www = "both" at {place}, and take {www} out',
    "path-shadowed/title": "{application} at {address} lies under {known} at {around}, which {has}",
    "path-shadowed/why": "{known}'s own {first} is gone or mixed with it, and its next update overwrites what is there",
    "path-shadowed/folder-name": "has a folder of that name",
    "path-shadowed/answers-path-itself": "answers that path itself",
    "path-shadowed/give-path-does": "give it a path that {known} does not use; taken are {taken:8}",
    "alias-of-nothing/title": "{domain} stands for {of}, which is no domain of {layout}",
    "alias-of-nothing/why": "it leads to no folder, so visitors see an error or the host's own page",
    "alias-of-nothing/give-root-own": 'give it a root of its own: kind = "{kind}", root = "{root}", which is free, and no of',
    "alias-of-nothing/meant-write": 'if {name} is meant, write of = "{name}" at {place}',
    "reserved-path/title": "{application} is to answer at {address}, but the server answers {first} itself",
    "reserved-path/why": "requests never reach the application",
    "reserved-path/give-installation-another": "give the installation another path",
}
