"""Sentences: the life of what is planned, from wish to end."""

SENTENCES = {
    "not-as-planned/may-hold-older": "{folder} may hold an older site of its kind: its database is not the planned one",
    "not-as-planned/address-leads-folder": "its address leads to no folder of the account",
    "not-as-planned/found": "it was not found in {folder}",
    "not-as-planned/holds": "{folder} holds {application}",
    "moves-asked/moved": "moved: {what}",
    "moves-asked/stays": "nothing shows yet that its new address leads to {new}",
    "not-moved/survey-does-show": "the survey does not show that it has moved from {old} to {new}",
    "not-as-planned/shows": "{url} shows {seen}, as it was seen on {day}, after the survey",
    "lifecycle/not-asked": "what a visitor gets was not looked at since the survey",
    "forget/stays": "what is in {folder} stays as it is: {mixed} {mixed:?lies|lie} there too, and nothing tells the files apart",
    "forget/tables-stay": "{left}: left as they are, too",
    "forget/shown": "{seen}, as it was seen on {day}",
    "forget-domain/still-points": "its name was still seen to lead here on {day}; have the record removed, or visitors get \
what the server shows for names that it does not know",
    "not-there/seen-elsewhere": "its name does not lead here, as it was seen on {day}",
    "not-there/does-point-here": "it does not point here yet, as the plan says",
    "not-there/root-found": "its root {root} was not found",
    "not-there/folder-could-seen": "it has no folder by which it could be seen; confirm it by its name",
    "forget-domain/and-installations": " and {gone:=retired installation}",
    "forget-domain/taken-out": "taken out: {domain}{also}",
    "confirm/left": "left: {one}",
    "confirm/everything-planned-live": "everything that is planned is live",
    "installations-asked/live": "live: {what}",
    "forget-installations/taken-out": "taken out: {gone}",
    "confirm/refused": "{refused:;}",
}
