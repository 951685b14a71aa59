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

# How a web server is set up, by the name that an account's web_server has. What is not told here, answers say that
# they depend on.
#
# [web_server.apache]
# php = "fastcgi"          # or "module", or "none"
# lists = false            # whether a folder without an index file is listed
# behind_proxy = false     # whether another server passes requests on to it
# tls = "certificate"      # which hosts answer by https: those with a certificate in the plan, "all" or "none"

# What of your machines goes into what 'kettlepost export' writes for web and name servers.
#
# [export]
# home = "/home/{account}"
# listen = "*:80"
# listen_secure = "*:443"
# certificate = "/etc/ssl/sites/{host}.pem"
# key = "/etc/ssl/sites/{host}.key"
# users = "/etc/ssl/sites/{account}.users"
# php = "unix:/run/php/php-fpm.sock"
# php_sockets = { "8.2" = "unix:/run/php/php8.2-fpm.sock" }
# access_log = "/var/log/sites/{host}.log"
# acme = "/var/www/acme"
# unknown_names = "refuse"   # a first host, for names that no other one has
# addresses = ["192.0.2.10"]
# name_servers = ["ns1.example.org", "ns2.example.org"]
# contact = "hostmaster@example.org"
"""

UNVERSIONED = """\
# what the program makes anew where it is missing
.kettlepost/
surveys/*.names
"""
"""The `.gitignore` of a plan folder."""


def start_plan(folder: Path) -> list[Path]:
    """Write a commented `kettlepost.toml`, a `.gitignore` and a folder for accounts; returns the files written.

    Raises InputError when something is there already: nothing is overwritten.
    """
    contents = {"kettlepost.toml": _SETTINGS, ".gitignore": UNVERSIONED}
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
    (folder / "accounts").mkdir(exist_ok=True)
    return written
