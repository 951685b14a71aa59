"""Sentences: rules about who looks after an installation once it is there."""

SENTENCES = {
    "nobody-updates/why": "a hole in it is open from the day on which it is known",
    "readable-password/title": "the {key} of {at} has a password in it",
    "readable-password/why": "a plan is handed around, and what was once in it stays in its history",
    "readable-password/take-password-out": (
        "take the password out of {key}, and have another one made: that one is known"
    ),
    "careless/title": "{what} {application} at {address}",
    "no-backup/backup-kept": "no backup is kept of",
    "no-backup/backups-kept-inside": "backups are kept inside the account alone of",
    "no-backup/takes-account-takes": "what takes the account takes them, too",
    "no-backup/nothing-said-backups": "nothing is said of backups of",
    "no-backup/takes-account-takes-2": "what takes the account takes the site, and nothing brings it back",
    "no-backup/one-kept-another": "have one kept on another machine, and write where",
    "no-backup/say-copies": 'say so: copies = {{ each = "day", keep = 7, at = "..." }}',
    "theme-undone/theme-changed-hand": "its theme was changed by hand, and is updated by itself, in",
    "theme-undone/next-update-writes": "the next update writes over what was changed",
    "theme-undone/write-themes-hand": 'write themes = "by hand", and by whom',
    "theme-undone/put-changed-where": (
        "put what was changed where no update reaches it, and write changed_theme = false"
    ),
    "nobody-updates/nothing-said-updates": "nothing is said of who updates",
    "nobody-updates/say-updates-such": (
        'say what updates it, such as kept_current = {{ application = "fixes" }}, or who does it by hand'
    ),
    "nobody-updates/updates-hand-nobody": "updates by hand, and nobody is named who does them, are planned for",
    "nobody-updates/name-does-kept": "name who does it: by = ... in kept_current",
    "installer-asks/installer-will-ask": "the installer will ask for {missing} of",
    "installer-asks/whoever-installs-takes": "whoever installs it takes what is offered",
    "installer-asks/write": "write {missing}",
}
