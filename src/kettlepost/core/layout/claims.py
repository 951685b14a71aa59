"""Claims: somebody's hold on a folder."""

from __future__ import annotations

from typing import Literal, NamedTuple

from kettlepost.core.names import Folder
from kettlepost.core.plan import Domain, Installation
from kettlepost.core.survey import FoundApplication, FoundPlaceholder

ClaimKind = Literal["root", "installation", "application", "placeholder", "control file"]


class Claim(NamedTuple):
    """Who holds `folder`; `holder` is a domain, installation or find, or a control file's name."""

    kind: ClaimKind
    folder: Folder
    holder: Domain | Installation | FoundApplication | FoundPlaceholder | str
