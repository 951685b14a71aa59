"""Sentences: the life of what is planned, from wish to end."""

SENTENCES = {
    "not-as-planned/may-hold-older": "{folder} may hold an older site of its kind: its database is not the planned one",
    "not-as-planned/address-leads-folder": "its address leads to no folder of the account",
    "not-as-planned/found": "it was not found in {folder}",
    "not-as-planned/holds": "{folder} holds {application}",
    "not-moved/survey-does-show": "the survey does not show that it has moved from {old} to {new}",
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
