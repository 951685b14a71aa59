"""Sentences: acceptances."""

SENTENCES = {
    "stale-accept/title": "{rule} at {at} {matched}",
    "stale-accept/why": "it hides nothing any more",
    "stale-accept/accepted-until": "was accepted until {until}",
    "stale-accept/accepted-such-finding": "is accepted, and there is no such finding",
    "stale-accept/take-acceptance-out": "take the acceptance out at {where}",
    "stale-accept/still-lived-give": "if it is still lived with, give it a later date",
    "stale-accept/why-waits": "it waits to hide the next finding at that place",
}
