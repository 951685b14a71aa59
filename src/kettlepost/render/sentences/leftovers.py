"""Sentences: rules about what is left in folders."""

SENTENCES = {
    "without-stale/look-keeps-visitors": (
        "look at {names}: what keeps visitors out, or chooses PHP, stays; take out only what the last site needed"
    ),
    "without-stale/keep-only-lines": "keep only the lines that the new application needs",
    "without-stale/all-meant-new": "if all of it is meant for the new one, accept the finding",
    "without-stale/keep-copy-remove": "keep a copy of {files} and remove {files:?it|them} before deploying",
    "thinned/keep-copy-take": (
        "keep a copy of {file}, and take out {lines:?line|lines} {numbers}; what is left keeps visitors out or "
        "chooses PHP, and stays"
    ),
    "freed/meant-hold-here": "if that is meant to hold here as well, accept the finding",
    "freed/open-everybody": "if it is to be open to everybody, ",
    "freed/look-see-left": "look at {names}, and see that {folder} is left out there",
    "index-contest/title": "{real} both lie in {folder}: {real2} is shown",
    "index-contest/why": "{real} is never seen{hidden}",
    "index-contest/seen": ", so {known} is not seen",
    "index-contest/look-both-keep": (
        "look at both, {folder} and {real}: keep a copy of the one that is not wanted, and remove or rename it"
    ),
    "index-contest/write-directoryindex-one": "write DirectoryIndex with the one that is wanted into {folder}",
    "installer-left/title": "{files} of the installer {files:?is|are} left in {name} at {address}",
    "installer-left/why": "an installer may be called again by anybody, and set the site up anew",
    "installer-left/remove": "remove {files}",
    "stale-control-file/title": "{files} of the last site {files:?is|are} where {application} is to go",
    "stale-control-file/why": "in the new one it {values}",
    "inherited-control/why": "they were not written for {party}, and nobody looks for them there",
    "placeholder-left/title": "{names} is left from before {application} at {address}",
    "placeholder-left/why": ("it does not win, but can be fetched and listed, and wins once the index order changes"),
    "placeholder-left/look-remove": "look at {names}, and remove {left:?it|them}",
    "freed/take-back": "{begin}take it back in {file}: {lines}",
    "inherited-control/title": "control files above {folder} take effect in it: {told}",
}
