"""A new plan folder to begin from."""

from __future__ import annotations

from pathlib import Path

from kettlepost.core.errors import InputError, OutsideError, cause
from kettlepost.core.names import printable
from kettlepost.workspace.files import write_whole

_SETTINGS = """\
# What holds for every account of this plan. Each account has a file of its own in accounts/.

[settings]
# The first of these that a folder holds answers for the folder.
index_files = ["index.html", "index.htm", "index.php"]

# What a hosting package allows. Leave out what is unlimited.
[package.basic]
addon_domains = 5
subdomains = 10
databases = 4
installations = 6

# Applications that the built-in catalogue does not know. All files of all_of must be there,
# and none of none_of, for a folder to be known as one.
#
# [[application]]
# id = "guestbook"
# title = "Our guestbook"
# all_of = ["guestbook.php", "lib/entries.php"]
# version = { file = "lib/entries.php", pattern = 'VERSION = "([0-9.]+)"' }
# index_files = ["guestbook.php"]
# folders = ["lib"]
"""

_ACCOUNT = """\
# One hosting account: what it holds and what is to come. Rename this file and the account
# together, then put your own domains in.

[account]
name = "example"
home = "/home/example"          # on the host; every folder below is relative to it
client = "Example Client"
package = "basic"
database_prefix = "exam_"

[[domain]]
name = "example-client.test"
kind = "primary"                # primary | addon | subdomain | alias | temporary
root = "www"                    # the folder this domain leads to
also = ["www.example-client.test"]

[[domain]]
name = "example-club.test"
kind = "addon"
root = "club"                   # beside www, not inside it: inside, it would answer at two addresses
# state = "planned"             # until it is added at the host; live | planned | retired

# [[domain]]
# name = "example-client-old.test"
# kind = "alias"
# of = "example-client.test"

# [[installation]]
# application = "wordpress"
# address = "example-client.test/news"
# state = "planned"             # live | planned | retired
# database = { name = "exam_news", prefix = "n7_" }
# admin_user = "inkwell"
# contact = "webkeeper@example-client.test"
"""


def start_plan(folder: Path) -> list[Path]:
    """Write a commented `kettlepost.toml` and one example account; returns the files written.

    Raises InputError when something of either is there already: nothing is overwritten.
    """
    contents = {"kettlepost.toml": _SETTINGS, "accounts/example.toml": _ACCOUNT}
    try:
        if folder.exists() and not folder.is_dir():
            raise InputError(f"{printable(folder)} is a file; name a folder that is new or empty")
        if folder.is_dir() and any(entry.name != ".git" for entry in folder.iterdir()):
            raise InputError(f"{printable(folder)} is not empty; name a folder that is new or empty")
    except OSError as error:
        raise OutsideError(f"{printable(folder)}: cannot be read ({cause(error)})") from None
    written = []
    for name, text in contents.items():
        write_whole(folder / name, text.encode())
        written.append(folder / name)
    return written
