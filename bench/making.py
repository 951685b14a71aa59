"""Plans and trees of any size to measure on."""

from __future__ import annotations

import random
import re
from pathlib import Path

from kettlepost.core.names import Folder, printable
from kettlepost.core.survey import (
    FoundApplication,
    FoundControl,
    FoundDatabase,
    FoundFolder,
    NamesWriter,
    Survey,
    encode_survey,
)
from kettlepost.core.webserver import kept_lines
from kettlepost.workspace.catalogue import applications


def make_plan(
    folder: Path, accounts: int, domains: int, installations: int, surveyed: bool = False, controls: str = ""
) -> Path:
    """A plan with nothing to find, as one could be written by hand, and surveys that say the same.

    `controls` puts a control file into every root, or into every folder.
    """
    (folder / "accounts").mkdir(parents=True)
    (folder / "surveys").mkdir()
    for a in range(accounts if surveyed else 0):
        survey, pieces = _survey(a, domains, installations, controls), list[bytes]()
        names = NamesWriter(pieces.append)
        for one in survey.folders:
            more = [f"more-{n}.php" for n in range(one.files - len(one.names))]
            names.add(one.folder, [*one.names, *more], [1] * one.files)
        survey.names = names.close()
        (folder / "surveys" / f"acc{a}.json").write_bytes(encode_survey(survey))
        (folder / "surveys" / f"acc{a}.names").write_bytes(b"".join(pieces))
    shared = '[settings]\nwww = "apart"\n\n[package.copper]\naddon_domains = 50\n'
    (folder / "kettlepost.toml").write_text(shared)
    for a in range(accounts):
        (folder / "accounts" / f"acc{a}.toml").write_text(_account(a, domains, installations))
    return folder


WRONG = ("nested", "occupied", "four each", "tables")


def spoil(plan: Path, kind: str) -> Path:
    """Let every site of a plan have something wrong: a root inside another, a folder that is in use, shared tables.

    With `four each` the folder is in use, and nobody has said who looks after the site.
    """
    for path in sorted((plan / "accounts").iterdir()):
        survey, text = plan / "surveys" / f"{path.stem}.json", path.read_text().replace('package = "copper"\n', "")
        if kind == "nested":
            inner = r"sites/site0/in/site\1"
            text = re.sub(r"sites/site([1-9]\d*)", inner, text)
            survey.write_text(re.sub(r"sites/site([1-9]\d*)", inner, survey.read_text()))
        elif kind in ("occupied", "four each"):
            planned = 'state = "planned"' if kind == "four each" else _PLANNED
            text = text.replace('state = "live"', planned).replace('"wordpress"', '"quillmoor"')
            text = re.sub(r'name = "(a\d+)_s', r'name = "\1_q', text)  # a database of its own
        else:
            text = re.sub(r'name = "(a\d+_s)(\d+)", prefix = "w\d+_"', _shared, text)
        path.write_text(text)
    shared = plan / "kettlepost.toml"
    shared.write_text(f'{shared.read_text()}\n[[application]]\nid = "quillmoor"\nall_of = ["quill.php"]\n')
    return plan


_PLANNED = """state = "planned"
contact = "office@acc0.example"
kept_current = { application = "everything" }
copies = { each = "day", keep = 7, at = "sftp://keeper@store.example/mill" }"""


def _shared(found: re.Match[str]) -> str:
    return f'name = "{found[1]}{int(found[2]) // 2}", prefix = "w_"'


def _account(a: int, domains: int, installations: int) -> str:
    parts = [
        f'[account]\nname = "acc{a}"\nhome = "/srv/hosting/acc{a}"\nclient = "Client {a}"\n'
        f'package = "copper"\ndatabase_prefix = "a{a}_"\n'
    ]
    for d in range(domains):
        kind = "primary" if d == 0 else "addon"
        parts.append(f'[[domain]]\nname = "site{d}.acc{a}.example"\nkind = "{kind}"\nroot = "sites/site{d}"\n')
    for n in range(installations):
        parts.append(
            f'[[installation]]\napplication = "wordpress"\naddress = "site{n % domains}.acc{a}.example/part{n}"\n'
            f'state = "live"\ndatabase = {{ name = "a{a}_s{n}", prefix = "w{n}_" }}\nadmin_user = "signal{n}"\n'
        )
    return "\n".join(parts)


def _survey(a: int, domains: int, installations: int, controls: str) -> Survey:
    folders = [FoundFolder(Folder("")), FoundFolder(Folder("sites"))]
    found = []
    for d in range(domains):
        page = ("index.html",)
        folders.append(FoundFolder(Folder(f"sites/site{d}"), 1, 2_000, 1_790_000_000, page, page))
    for n in range(installations):
        base = Folder(f"sites/site{n % domains}/part{n}")
        names = ("index.php", "license.txt", "wp-activate.php", "wp-config.php", "wp-load.php", "wp-login.php")
        folders.append(FoundFolder(base, 20, 200_000, 1_790_000_000, names, ("index.php",)))
        for own in ("wp-admin", "wp-content", "wp-includes"):
            folders.append(FoundFolder(base.below(own), 90, 900_000, 1_790_000_000, ("about.php", "admin.php")))
        database = FoundDatabase(f"a{a}_s{n}", f"a{a}_u", "localhost", f"w{n}_")
        marks = ["wp-includes/version.php", "wp-load.php", "wp-admin/"]
        found.append(FoundApplication(base, "wordpress", marks, "6.1.9", "wp-includes/version.php", database=database))
    folders.sort(key=lambda one: one.folder.tree_key)
    kept: list[FoundControl] = []
    for one in folders if controls else ():
        if one.folder and (controls == "folders" or one.folder.count("/") == 1):
            one.control = (".htaccess",)
            kept.append(FoundControl(one.folder, ".htaccess", [], list(map(printable, kept_lines(_TEN_RULES)))))
    return Survey(
        1, f"acc{a}", "2100-01-01T06:00:00Z", f"/srv/hosting/acc{a}", folders, applications=found, controls=kept
    )


_TEN_RULES = (
    "RewriteEngine On\n"
    + "".join(
        f"RewriteCond %{{REQUEST_URI}} ^/old{n}/\nRewriteRule ^old{n}/(.*)$ /new{n}/$1 [R=301,L]\n" for n in range(9)
    )
    + (
        "RewriteRule ^index\\.php$ - [L]\nRewriteCond %{REQUEST_FILENAME} !-f\nRewriteCond %{REQUEST_FILENAME} !-d\n"
        "RewriteRule . /index.html [L]\n"
    )
)


def make_crowd(folder: Path, number: int, how: str) -> Path:
    """One account of many domains: side by side, all with one root, all in one, or each in the next."""
    plan = make_plan(folder, 0, 0, 0)
    root = {"clean": "sites/site{n}", "shared": "www", "nested": "www/s{n}", "chain": "www"}[how]
    tables = [
        f'[[domain]]\nname = "site{n}.example"\nkind = "addon"\nroot = "{root.format(n=n)}"\n' for n in range(number)
    ]
    if how == "nested":
        tables.append('[[domain]]\nname = "top.example"\nkind = "addon"\nroot = "www"\n')
    elif how == "chain":  # as deep as a path may be
        tables = [
            f'[[domain]]\nname = "site{n}.example"\nkind = "addon"\nroot = "www{"/a" * n}"\n' for n in range(number)
        ]
    (plan / "accounts" / "crowd.toml").write_text('[account]\nname = "crowd"\n\n' + "\n".join(tables))
    return plan


def make_tree(folder: Path, files: int, folders: int, seed: int = 1) -> Path:
    """Plain files in nested folders, a few of them index files, like what lies on a host."""
    chance = random.Random(seed)
    made = [(folder, 0)]
    folder.mkdir(parents=True)
    while len(made) < folders:
        parent, depth = made[chance.randrange(len(made))]
        if depth < 8:
            child = parent / f"part{len(made)}"
            child.mkdir()
            made.append((child, depth + 1))
    for n in range(files):
        parent, _ = made[n % folders]
        name = "index.html" if n // folders == 0 and n % 10 == 0 else f"file{n}.{chance.choice(_ENDINGS)}"
        with open(f"{parent}/{name}", "wb") as file:
            file.write(b"x" * (n % 40))
    return folder


def make_applications(folder: Path, number: int) -> Path:
    """Folders laid out as entries of the catalogue ask, with the files of a release around them."""
    known = list(applications().values())
    for n in range(number):
        application, base = known[n % len(known)], folder / f"site{n}"
        for path in (*application.all_of, *application.any_of[:1], *application.index_files):
            (base / path).parent.mkdir(parents=True, exist_ok=True)
            if path.endswith("/"):
                (base / path).mkdir(exist_ok=True)
            else:
                (base / path).write_text("<?php run();\n")
        for name in application.folders:
            make_tree(base / name / "more", 150, 8, seed=n)
    return folder


def make_listing(path: Path, files: int, folders: int) -> Path:
    """A listing as find(1) writes it, of folders in folders."""
    each = files // folders
    with path.open("w") as out:
        for n in range(folders):
            place = f"./www/part{n % 30}/sub{n // 30 % 50}/leaf{n}"
            out.write(f"d 4096 1790000000.0000000000 {place}\0\0")
            for k in range(each):
                out.write(f"f {k * 100} 1790000000.0000000000 {place}/file-{n}-{k}.{_ENDINGS[k % 6]}\0\0")
    return path


_ENDINGS = ("php", "jpg", "css", "js", "html", "txt")


def make_hosts(folder: Path, kind: str, number: int) -> Path:
    """A server's configuration with so many hosts, which passes its own test; gives the file with the hosts."""
    folder.mkdir(parents=True, exist_ok=True)
    one = _VIRTUAL_HOST if kind == "apache" else _SERVER
    hosts = folder / "hosts.conf"
    hosts.write_text("".join(one.replace("@N", str(n)).replace("@A", str(n // 20)) for n in range(number)))
    modules = "/usr/lib/apache2/modules"
    loaded = "".join(
        f"LoadModule {name}_module {modules}/mod_{name}.so\n" for name in ("mpm_prefork", "authz_core", "dir")
    )
    apache = f"{loaded}ServerName localhost\nPidFile {folder}/pid\nErrorLog {folder}/log\nListen 127.0.0.1:8099\n"
    nginx = f"pid {folder}/pid; error_log {folder}/log; events {{}} http {{ server_names_hash_max_size 131072; "
    (folder / "server.conf").write_text(
        f"{apache}User nobody\nGroup nogroup\nInclude {hosts}\n" if kind == "apache"
        else f"{nginx}server_names_hash_bucket_size 128; include {hosts}; }}\n"
    )  # fmt: skip
    return hosts


_VIRTUAL_HOST = """<VirtualHost *:80>
    ServerName site@N.example
    ServerAlias www.site@N.example
    DocumentRoot "/srv/account@A/site@N"
    <Directory "/srv/account@A/site@N">
        AllowOverride All
        Require all granted
    </Directory>
    ErrorLog /var/log/site.log
</VirtualHost>
"""
_SERVER = """server {
    listen 8099;
    server_name site@N.example www.site@N.example;
    root /srv/account@A/site@N;
    index index.html index.php;
    location / { try_files $uri $uri/ /index.php?$args; }
    location ~ \\.php$ { fastcgi_pass unix:/run/php.sock; }
}
"""
