"""What steps are called, so that somebody can say that one is done."""

from __future__ import annotations

import base64
import hashlib

from kettlepost.core.names import Folder, HostName, printable
from kettlepost.core.remedies import Action, Remedy

MOVE_ROOT = "root"
"""The kind of the step by which a host leads a name to another folder."""


def step_id(kind: str, account: str, subject: str) -> str:
    """What a step is called: the same as long as it means the same, such as `install-k3f7abq2`.

    Eight characters of 32 (RFC 4648 section 6) are as good as never the same for two steps of a plan.
    """
    digest = hashlib.blake2b(f"{kind}\0{account}\0{subject}".encode(), digest_size=5).digest()
    return f"{kind}-{base64.b32encode(digest).decode().lower()}"


def root_change_id(account: str, host: HostName, old: Folder, root: Folder) -> str:
    """What the step is called by which the host leads a name to another root."""
    return step_id(MOVE_ROOT, account, printable(f"{host} {old} {root}"))


def saying_root_changed(account: str, host: HostName, old: Folder, root: Folder) -> Remedy:
    """The command that says that the host leads a name to another root."""
    return Remedy.of(Action.SAY_DONE, root_change_id(account, host, old, root))
