"""What is known of a web server beside its control files: what somebody told, and what is the same on usual hosts."""

from __future__ import annotations

from functools import cached_property
from typing import Literal

from msgspec import Struct

from kettlepost.core.messages import Message

USUAL_MODULES = frozenset(
    """access_compat actions alias auth_basic authn_core authn_file authz_core authz_groupfile authz_host authz_user
    autoindex deflate dir env expires filter headers mime negotiation reqtimeout rewrite setenvif ssl status version
    so log_config unixd""".split()
)
"""Modules that every host has, where nobody says otherwise; of others nothing is known."""
PHP_FILES = (".php", ".phtml", ".phar")
Override = Literal["All", "None", "AuthConfig", "FileInfo", "Indexes", "Limit", "Options"]


class UnknownSetting(Message, frozen=True):
    """On what an answer depends that a key of the web server's record would tell: a message, with that `key`."""

    key: str = ""

    __hash__ = Message.__hash__


HOW_PHP_RUNS = UnknownSetting("doubt/how-php-runs", key="php")
WHAT_IT_HAS = UnknownSetting("doubt/server-has", key="modules")
WHETHER_IT_LISTS = UnknownSetting("doubt/lists-folders", key="lists")


class WebServer(Struct, frozen=True, dict=True, forbid_unknown_fields=True):
    """How a web server is set up, under the name that an account's `web_server` has; an absent key is not known.

    Keys:
        kind: which it is, where its name does not say; only Apache obeys control files
        allow_override: what control files may do there: "All", "None", or some of "AuthConfig", "FileInfo", \
"Indexes", "Limit" and "Options"
        modules: modules that it has beside the usual ones, such as "proxy"
        lacks: modules that it does not have
        php: how it runs PHP: as a "module", by "fastcgi" (php-fpm and its kin), or "none"
        php_files: how the names end of files that PHP runs
        lists: true where a folder without an index file is listed, false where that is denied
        follow_links: whether symbolic links are followed: "always", "owner" for those of the same owner, "never"
        index_files: the files that it shows for a folder, where they are not those of `[settings]`
        behind_proxy: true where another server of the host passes requests on to it, and may say more of them, false \
where visitors reach it themselves
        allow_list: directives that control files may hold there beside what allow_override says
        tls: which hosts answer by https: "all", those with a "certificate" in the plan, or "none"
    """

    kind: Literal["apache", "nginx", "other"] | None = None
    allow_override: tuple[Override, ...] = ("All",)
    modules: tuple[str, ...] = ()
    lacks: tuple[str, ...] = ()
    php: Literal["module", "fastcgi", "none"] | None = None
    php_files: tuple[str, ...] = PHP_FILES
    lists: bool | None = None
    follow_links: Literal["always", "owner", "never"] = "always"
    index_files: tuple[str, ...] | None = None
    behind_proxy: bool | None = None
    tls: Literal["all", "certificate", "none"] | None = None
    allow_list: tuple[str, ...] = ()

    @cached_property
    def has(self) -> frozenset[str]:
        """The modules that it has."""
        php = {"php"} if self.php == "module" else frozenset()
        return (USUAL_MODULES | frozenset(map(module_name, self.modules)) | php) - self.has_not

    @cached_property
    def has_not(self) -> frozenset[str]:
        """The modules that it does not have."""
        no_php = {"php", "php5", "php7", "php8"} if self.php in ("fastcgi", "none") else frozenset()
        return frozenset(map(module_name, self.lacks)) | no_php

    @cached_property
    def overrides(self) -> frozenset[str]:
        """What its control files may do; empty where they are not read."""
        return frozenset(self.allow_override) - {"None"}

    @cached_property
    def allowed(self) -> frozenset[str]:
        """The directives that its control files may hold, whatever they may do beside, in lower case."""
        return frozenset(map(str.lower, self.allow_list))

    @property
    def reads_control_files(self) -> bool:
        """Whether it looks for control files at all."""
        return bool(self.overrides or self.allow_list)

    def says(self, module: str) -> bool | None:
        """Whether it has a module, as far as that was told or is the same on usual hosts."""
        return True if module in self.has else False if module in self.has_not else None

    def untold(self, module: str) -> UnknownSetting:
        """On what it depends whether it has a module of which nothing tells."""
        return HOW_PHP_RUNS if module.startswith("php") and self.php is None else WHAT_IT_HAS

    @property
    def base_options(self) -> frozenset[str]:
        """The options that hold where no control file sets any."""
        follows = {"always": "follow", "owner": "owner", "never": ""}[self.follow_links]
        return frozenset(filter(None, (follows, "lists" if self.lists else "")))


def module_name(module: str) -> str:
    """The name of a module without what stands around it: `mod_rewrite.c` and `rewrite_module` are `rewrite`."""
    return module.lower().removeprefix("mod_").removesuffix(".c").removesuffix("_module")


SERVERS = {"apache": WebServer("apache"), "nginx": WebServer("nginx"), "other": WebServer("other")}
"""What is known of a server of which its kind alone was told."""
