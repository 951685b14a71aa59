"""Sentences: rules about what can be reached and should not, and what should be reached and is not."""

SENTENCES = {
    "set-aside-reached/title": "what was set aside in {aside} can be reached at {found:4}",
    "set-aside-reached/why": ("configurations and dumps lie there as they were, and nothing keeps them shut any more"),
    "set-aside-reached/give-folder-free": (
        "give {first} the folder {free}, which is free: make it, and change its root at the host"
    ),
    "set-aside-reached/put-back-discard": "put back, or discard, what is set aside",
    "exposed/title": "{what}, {paths:4}, can be fetched at {reached}",
    "exposed/why": "anybody who guesses the name reads it there{more}",
    "exposed/text": " and {addresses:=more address|more addresses}",
    "exposed/address-reaches": "to {to}, which no address reaches",
    "exposed/out-every-root": "out of every root",
    "exposed/move": "move {paths:4} {where}",
    "ways-out/remove": "remove {it}",
    "ways-out/change-opens": ", and change what it opens",
    "ways-out/nobody-needs": "if nobody needs {it}, {gone}",
    "kept-in-place/let-fetched-password": (
        "let it be fetched with a password only, by a <Files> section for {names} in {control}"
    ),
    "kept-in-place/leave-where-application": (
        "leave it where the application reads it, and let nobody fetch it: <Files {some}> Require all denied "
        "</Files> in {control}, each on a line of its own; or lead the domain to the application's own folder for "
        "visitors, if it has one, such as public"
    ),
    "shut-doors/host-ask-password": (
        "have the host ask for the password at {names:4} as well, and write protected = true there"
    ),
    "unmapped-site/title": "{application} lies in {folder}, which no address reaches",
    "unmapped-site/why": "nobody updates it, and its {files}{database} still count",
    "unmapped-site/database": " and the database {tables}",
    "unmapped-site/wanted-declare-domain": (
        "if it is wanted, declare the domain that leads to it, and write it down as an installation"
    ),
    "staging-open/title": "{address}, a staging site of {staging_of}, may be listed by search engines",
    "staging-open/why": "neither a password nor a robots.txt nor the plan keeps them out",
    "staging-open/ask-password-write": "ask for a password at {domain}, and write protected = true",
    "staging-open/tell-keep-search": (
        "tell {application} to keep search engines out, and write indexing = false at {place}"
    ),
    "empty-root/title": (
        "visitors of {domain} see {is_kind:?nothing|no page}: {root} {is_kind:?is empty|holds no index file}"
    ),
    "empty-root/why": "the server shows an error, or a list of every file that lies there",
    "empty-root/send-visitors-control": "send visitors of {domain} on to {address}, from a control file",
    "empty-root/put-index-page": "put an index page into {root}",
    "second-door/title": "{party} is also reached at {doors:4}, where nothing keeps people out",
    "second-door/why": "whoever finds the other address sees what the first one hides",
    "second-door/ask-password-control": (
        "ask for the password in a control file in {folder} itself, so that it holds everywhere"
    ),
}
