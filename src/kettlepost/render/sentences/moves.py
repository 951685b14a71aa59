"""Sentences: ways out that move."""

SENTENCES = {
    "own-subdomain/move-subdomain-own": "move it to {below}a subdomain of its own, {host}",
    "own-subdomain/root-free": "{where}, with the root {root}, which is free",
    "own-subdomain/below": "{to}, below ",
    "moving-words/look-site-set": "look at the site{sent}, then set the old files aside{left}{rest}",
    "moving-words/copy-change": ": copy {what} there{but}{with_it}, change {host}, {then}",
    "moving-words/make-change-root": (
        ": make it, and change the root at the host; none of its own files is to be moved, and it shows nothing "
        "until something is put there"
    ),
    "moving-words/change-root-host": ": change the root at the host; none of its own files is to be moved",
    "moving-words/lies": "what lies in {folder}",
    "moving-words/files": "the files, from {folder} on,",
    "moving-words/but-others-use": " (but for {stays:4}, which others use)",
    "moving-words/root-host": "the root at the host",
    "moving-words/settings": "its settings",
    "moving-words/but-links-others": " (but for {linked:4}, to which links of others lead)",
    "moving-words/send-visitors-old": ", send visitors on from the old addresses",
    "moving-words/says-may-see": ", with what {files} says of who may see what and of PHP",
    "moving-words/else-lies-shows": "; what else lies in {parts:4} it shows no more",
    "moved-roots/free-plan-survey": "free in the plan (no survey tells what is there)",
    "moved-roots/give-folder": "give {domain} the folder {folder}, which is {free}",
    "moved-roots/give": "give {each}, which are {free}",
    "moved-roots/give-each-folder": (
        "give each of the {domains:,} a folder of its own that is {free}, such as {folder}"
    ),
    "moved-roots/folder": "{domain} the folder {folder}",
    "moves-elsewhere/move-whose-folder": "move {address} to {below}, whose folder {below2} is free",
    "rehearsed-words/write": ", and write that {told:4} {told:?rehearses|rehearse} it there",
    "carried/says-may-see": "what it says of who may see what and of PHP holds in {old}",
    "carried/wanted-well": "{held}, and is wanted in {new} as well",
}
