"""Sentences: rules about what was seen of an account outside of its folders."""

SENTENCES = {
    "ways/server-right-root": 'if the server is right, write {key} = "{root}"',
    "ways/server-right-redirect": 'if the server is right, write redirect_to = "{target}"',
    "ways/plan-right-host": "if the plan is right, have the host lead {seen} to {planned}, and read the server in again",
    "unknown/title": "the server answers for {seen}, and the plan of {layout} does not have it",
    "unknown/why": "what is deployed where, and what may be removed, is decided without it",
    "unknown/read": "read it in",
    "planned/title": "{seen} is planned, and the server has it already, as {leads}",
    "planned/why": "it answers today, and the plan says that it is still to be added",
    "planned/write-state-live": 'write state = "live"',
    "server-differs/title": "the server has {seen} as {really}, and the plan has it as {planned}",
    "server-differs/why": "what is planned, deployed and removed there rests on a folder that nobody sees",
    "unknown/take-off": "if it is to go, have the host take {seen} off the account, and read the server in again",
}
