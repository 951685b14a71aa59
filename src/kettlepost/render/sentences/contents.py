"""Sentences: rules about what the survey found in the folders."""

SENTENCES = {
    "of-its-own/give-address-own": "give {application} an address of its own",
    "moved-up/uploaded-one-folder": (
        "it was uploaded one folder too deep for {address}: move what lies in {base} up to {to}, and take the "
        "survey again"
    ),
    "seen-instead/holds-none-known": "{folder} holds none of what {known} is known by ({marks})",
    "seen-instead/does-exist": "{folder} does not exist",
    "seen-instead/empty": "{folder} is empty",
    "seen-instead/holds-half-missing": "{folder} holds half of it: {missing} is missing",
    "seen-instead/holds": "{folder} holds {application}",
    "seen-instead/holds-only-placeholder": "{folder} holds only a placeholder page, {file}",
    "folder-occupied/title": "{application} is to go into {folder}, which holds {what}",
    "folder-occupied/why": (
        "an installer writes over files of the same name and leaves the others, hidden ones too, among its own"
    ),
    "folder-occupied/all": "{held_names} ({total:=file} in all)",
    "folder-occupied/planned-one-write": 'if it is the planned one, write state = "live" at {place}',
    "folder-occupied/why-2": (
        "it may be an older site of the same kind: {uses}, and no earlier survey showed the folder empty"
    ),
    "folder-occupied/why-3": "{file} is {page}; {why}",
    "folder-occupied/database": "its database is {base}",
    "folder-occupied/names-database": "it names no database",
    "placeholder-wins/title": "{names} {is_before:?would hide|hides} {application} at {address}",
    "placeholder-wins/why": "the server shows {file} before {own}, so visitors go on seeing the placeholder",
    "placeholder-wins/before-deploying": " before deploying",
    "placeholder-wins/put-before-servers": ("put {own} before {file} in the server's index order and in index_files"),
    "placeholder-wins/look-remove": "look at {names}, and remove {them}{before}",
    "placeholder-wins/will-show-too": "; {others:4} will show {own}, too",
    "unplanned-application/title": "{application} in {folder} is not in the plan",
    "unplanned-application/why": "{reached}, and nobody updates what nobody has written down",
    "unplanned-application/answers": "it answers at {addresses:4}",
    "cleared/but": ", but for {stays:8}",
    "cleared/nobody-wants-lies": (
        "if nobody wants what lies there, look at it first: keep a copy of {folder}, clear it{but}, and take the "
        "survey again"
    ),
    "front-occupied/title": "{title} at {address} is to start through {own} in {front}, where {names} is",
    "front-occupied/why": "it is shown instead, or is written over",
    "front-occupied/look": "look at it",
    "front-occupied/look-them": "look at them",
    "front-occupied/nobody-wants-keep": "if nobody wants {names}, {page}, keep a copy, and remove it",
    "written-down/write-down-installation": (
        'write it down: [[installation]] application = "{application}", address = "{address}", state = "live"'
    ),
    "written-down/nobody-wants": "if nobody wants it, ",
    "truths/found-write-address": 'it was found in {home}: write address = "{addresse}" at {place}',
    "truths/found-address-reaches": ("it was found in {home}, which no address reaches: declare the domain that does"),
    "truths/write-state-retired": (
        'write state = "retired" at {place} if it is gone, or "planned" if it is still to come'
    ),
    "truths/folder-changed-since": "if the folder has changed since, take the survey again",
    "plan-and-survey-differ/title": "{application} is to be live at {address}, but {seen}",
    "plan-and-survey-differ/why": (
        "the plan describes something that is not there, so every decision that rests on it is unsure"
    ),
}
