"""Sentences: rules about who gets in, who is told, and what an address needs before it can be used."""

SENTENCES = {
    "no-contact/title": "{application} at {address} has no contact",
    "no-contact/why": "the installer's notice with the login, and every later warning, reaches nobody",
    "no-contact/write-contact-address": "write contact = an address that somebody reads",
    "no-contact/write-contact-elsewhere": 'write contact = "{usual}" as elsewhere in this account',
    "licence-bound/title": "{application} at {address} is licensed to {licensed_to}",
    "licence-bound/why": "at the new address it stops, or shows visitors a notice",
    "licence-bound/licence-issued-write": (
        'have the licence issued for {address}, then write licensed_to = "{address}"'
    ),
    "guessable-admin/title": "the administrator of {application} at {address} is called {name}",
    "guessable-admin/why": "everybody guesses that name first, so only the password is left to find",
    "guessable-admin/text": "at {place}",
    "guessable-admin/application": " and in the application",
    "guessable-admin/write-name-says": 'write a name that says nothing, such as admin_user = "{other}", {where}',
    "contact-not-reached/title": ("mail to {contact}, the contact of {application} at {address}, cannot arrive yet"),
    "contact-not-reached/why": "{domain} does not point here, so the notice with the login is lost",
    "contact-not-reached/point-here-first": "point {domain} here first, and then install",
    "contact-not-reached/write-contact-until": 'write contact = "{usual}" until it does',
    "not-pointing/title": "{domain} does not point here, and {applications:4} {there:?is|are} planned at it",
    "not-pointing/why": (
        "an installer that calls its own address reaches another server, and no certificate can be had"
    ),
    "not-pointing/point-here-wait": "point {domain} here, wait until it does, and write points_here = true",
    "not-pointing/install-temporary-address": "install at a temporary address, and move to the domain later",
    "no-certificate/title": (
        "{bare:4} {bare:?is|are} to be reached by https, and no certificate covers {bare:?it|them}"
    ),
    "no-certificate/why": "browsers show a warning instead of the site",
    "no-certificate/get-certificate-covers": (
        "get a certificate that covers {bare:12}, and write it down: [[certificate]] covers = [{bare2}]"
    ),
}
