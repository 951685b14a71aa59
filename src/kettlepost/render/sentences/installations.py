"""Sentences: rules about installations and the folders they lie in."""

SENTENCES = {
    "why-there/made-host-once": "{folder} is made by the host once {coming} is added",
    "why-there/already": "{folder} is there already",
    "told-apart/find-out-them": ("find out which of them really lies in {folder}, and write down where the others are"),
    "told-apart/gone-mark-state": (
        'if {address} is gone, mark it state = "retired"; if it was written twice, remove one entry'
    ),
    "told-apart/holds-mark-retired": "{folder} holds {title}: mark {names} as retired, which is not there",
    "told-apart/text": "{application} at {address}",
    "out-of/keep-back-up": ("keep it, back up {outside} whole before every update of either, and accept the finding"),
    "own-tables/give-tables-own": 'give it tables of its own with a copy of the data: prefix = "{prefix}"',
    "own-tables/give-database-own": 'give it a database of its own with a copy of the data: name = "{name}"',
    "folder-exists/title": "{application} wants a new folder, and {why_there}",
    "folder-exists/why": "its installer refuses, or takes a folder of another name",
    "folder-exists/move-does-exist": "move {address} to {below}: {below2} does not exist",
    "folder-exists/remove-once-nothing": ("remove {folder} once nothing in it is wanted, and take the survey again"),
    "folder-exists/upload-hand-instead": "upload {application} by hand instead of by its installer",
    "retired-still-there/title": "{application} at {address} is retired, but {folder} still holds it",
    "retired-still-there/why": "{answers}nobody updates what is thought to be gone",
    "retired-still-there/still-answers": "it still answers at {reached:4}, and ",
    "retired-still-there/use-after-all": 'if it is in use after all, write state = "live"',
    "retired-still-there/take-entry-out": ", and take the entry out of the plan",
    "same-folder/title": "{names} end in one folder, {folder}",
    "same-folder/why": (
        "whichever is deployed later overwrites the other's index file, configuration and control files"
    ),
    "same-folder/text": "{application} at {address}",
    "front-missing/title": "{application} lies in {folder}, but nothing in {front} leads from {address} to it",
    "front-missing/why": "visitors of the address do not see the application",
    "front-missing/answers-write-address": "if it answers at {real}, write that as its address, and no folder",
    "front-missing/put-into-set": "put {name} into {front}, set to load what lies in {folder}",
    "staging-shares-data/title": (
        "{address}, a staging site, uses the tables of {address2}: database {mine}, prefix {prefix}"
    ),
    "staging-shares-data/why": "whatever is tried out there happens to the live data",
    "nested-installation/title": "{application} in {folder} lies inside {application2} in {outside}",
    "nested-installation/why": (
        "control files and rewrites of {address} take effect in it, and removing {application} takes "
        "{application2} along"
    ),
    "same-application-nested/title": "{application} in {folder} lies inside another in {outside}",
    "same-application-nested/why": (
        "control files and rewrites of {address} take effect in it, and removing the one in {outside} takes it along"
    ),
    "root-refused/title": ('{application} is planned at the root {folder}, where the package "{package}" allows none'),
    "root-refused/why": "the installer refuses, or chooses a folder of its own",
    "root-refused/take-package-allows": "take a package that allows installations at the root",
}
