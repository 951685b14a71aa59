"""Accounts as they are after ten years: roots in roots, old copies, rehearsals, links, parked names, controls."""

from __future__ import annotations

import random
from dataclasses import dataclass, field
from typing import Any

from kettlepost.core.plan.toml_text import as_value

PAGE = "<!doctype html><title>{0}</title>\n<h1>{0}</h1>\n<p>What people read at {0}, every day of the week.</p>\n"
SOON = "<!doctype html><title>Soon</title>\n<h1>Coming soon</h1>\n<p>Our site opens here shortly.</p>\n"
CONTROLS = (
    "Options -Indexes\n",
    "DirectoryIndex home.html index.php index.html\n",
    "ErrorDocument 404 /lost.html\n",
    "Redirect 301 /former /page.html\n",
    "RewriteEngine On\nRewriteCond %{REQUEST_FILENAME} !-f\nRewriteCond %{REQUEST_FILENAME} !-d\n"
    "RewriteRule . /index.php [L]\n",
    "RewriteEngine On\nRewriteRule ^\\.git - [F]\n",
    "AddType text/plain .log\n",
    "<Files settings.php>\nRequire all denied\n</Files>\n",
    "AddHandler application/x-httpd-php .php\n",
)
PASSWORDS = (
    'AuthType Basic\nAuthName "For members"\nAuthUserFile /home/keeper/.htpasswd\nRequire valid-user\n',
    "<Files page.html>\nAuthType Basic\nAuthName Members\nAuthUserFile /home/keeper/.htpasswd\nRequire valid-user\n"
    "</Files>\n",
)


@dataclass
class Grown:
    """One account: what its plan says, and the files and links in its home."""

    name: str
    tables: str = ""
    tree: dict[str, Any] = field(default_factory=lambda: {"application": [], "files": {}, "links": {}, "folders": []})


class _Growing:
    """An account while it grows: what is written down of it, and what lies in which of its folders."""

    def __init__(self, seed: int):
        self.pick = random.Random(seed)  # noqa: S311 (a made-up account)
        self.seed, self.host = seed, f"old{seed}.example"
        self.made = Grown(f"acc{seed}")
        package = self.pick.choice(["tin", "copper", "copper"])
        self.tables = [f'[account]\nname = "{self.made.name}"\npackage = "{package}"\ndatabase_prefix = "m_"\n\n']
        self.roots: dict[str, str] = {}
        self.held: set[str] = set()

    def may(self, chance: float) -> bool:
        return self.pick.random() < chance

    def name(self, host: str, kind: str, root: str, **more: object) -> None:
        self.roots[host] = root
        self.tables.append(table("domain", name=host, kind=kind, **({"root": root} if kind != "alias" else {}), **more))

    def put(self, application: str, folder: str, state: str, address: str, **more: object) -> None:
        self.tables.append(table("installation", application=application, address=address, state=state, **more))
        if state != "planned":
            self.there(application, folder)

    def there(self, application: str, folder: str) -> None:
        version = self.pick.choice(["5.1.0", "5.2.1"])
        self.held.add(folder)
        self.made.tree["application"].append({"id": application, "folder": folder, "version": version})

    def names(self) -> None:
        """Domains with roots of their own, in one another, or shared; and names that stand for others."""
        self.name(self.host, "primary", "www", www=self.pick.choice([None, "both"]))
        addons = {
            "choir": ["choir", "www/choir", "www/choir", "www"],
            "mill": ["mill", "www/mill", "www/choir/mill", "sites/mill"],
        }
        for label, places in addons.items():
            if self.may(0.75):
                self.name(f"{label}{self.seed}.example", "addon", self.pick.choice(places))
        for label, places in {"try": ["try", "www/try"], "shop": ["shop", "www/shop"], "news": ["news", "www"]}.items():
            if self.may(0.5):
                self.name(f"{label}.{self.host}", "subdomain", self.pick.choice(places))
        if self.may(0.4):
            self.name(f"parked{self.seed}.example", "alias", "www", of=self.host)

    def sites(self) -> None:
        """What lies at the roots, and below the main one; old copies, which nobody wrote down."""
        for host, root in self.roots.items():
            if root in self.held or host.startswith("parked") or self.may(0.1):
                continue
            kind = self.pick.choice(["page", "page", "live", "soon", "planned", "empty"])
            application = self.pick.choice(["quillmoor", "barrowshop", "ticketgrove"])
            base = {
                "name": self.pick.choice(["m_one", "m_two", f"m_{len(self.tables)}"]),
                "prefix": self.pick.choice(["a_", "b_", "q_"]),
            }
            if kind in ("live", "planned"):
                self.put(
                    application, root, kind, host, database=base, admin_user="keeper", contact="keeper@elsewhere.test"
                )
            if kind in ("page", "soon") or (kind == "planned" and self.may(0.5)):
                self.made.tree["files"][f"{root}/index.html"] = (
                    SOON if kind == "soon" else PAGE.format(f"{host} at its root")
                )
                self.held.add(root)
        for path in ("shop", "moor", "old-shop", "verein"):
            if self.may(0.4) and f"www/{path}" not in self.held:
                state = self.pick.choice(["live", "planned", "retired"])
                base = {"name": self.pick.choice(["m_one", "m_shop"]), "prefix": self.pick.choice(["a_", "s_"])}
                self.put(
                    self.pick.choice(["barrowshop", "quillmoor"]),
                    f"www/{path}",
                    state,
                    f"{self.host}/{path}",
                    database=base,
                )
        for folder in ("www/old", "www/copy-of-site", "backup/site", "www/choir/2014"):
            if self.may(0.3) and folder not in self.held:
                self.there("quillmoor", folder)

    def files(self) -> None:
        """Control files of all kinds, pages that people read, dumps, links."""
        files = self.made.tree["files"]
        for folder in sorted({*self.roots.values(), *self.held, ""}):
            if self.may(0.35):
                files[f"{folder}/.htaccess".lstrip("/")] = "".join(self.pick.sample(CONTROLS, self.pick.randint(1, 3)))
            for page, chance in {"page": 0.5, "home": 0.2, "docs/index": 0.2}.items():
                if folder and self.may(chance):
                    files[f"{folder}/{page}.html"] = PAGE.format(f"{folder} {page}")
        self.keep_out(files)
        if self.may(0.3):
            files["www/dump.sql"] = "CREATE TABLE a_users (id int);\nINSERT INTO a_users VALUES (1);\n"
        if self.may(0.3):
            self.made.tree["links"]["www/link"] = "../" + self.pick.choice(["choir", "mill", "backup"])

    def keep_out(self, files: dict[str, Any]) -> None:
        """A password in some folder, for all of it or a page; by draws of its own, so that all else stays as it is."""
        own = random.Random(-self.seed)  # noqa: S311 (a made-up account)
        if own.random() < 0.4:
            folder = own.choice(sorted({"www", *self.roots.values(), *self.held}))
            file = f"{folder}/.htaccess"
            files[file] = own.choice(PASSWORDS) + files.get(file, "")


def grown(seed: int) -> Grown:
    """An account that somebody has kept for ten years, the same for the same seed."""
    growing = _Growing(seed)
    growing.names()
    growing.sites()
    growing.files()
    growing.made.tables = "".join(growing.tables)
    return growing.made


def table(kind: str, /, **keys: object) -> str:
    """An entry of an account's file, without the keys that have no value."""
    lines = [f"{key} = {as_value(value)}\n" for key, value in keys.items() if value is not None]
    return f"[[{kind}]]\n{''.join(lines)}\n"
