"""What directives there are, and which of them have a say in what answers."""

from __future__ import annotations

from collections.abc import Iterable

from kettlepost.core.webserver.directives import Node, Section

VERSION = (2, 4, 62)
"""The version of the server that `<IfVersion>` is asked of."""
LOADED = frozenset(
    """access_compat actions alias auth_basic authn_core authn_file authz_core authz_groupfile authz_host authz_user
    autoindex deflate dir env expires filter headers mime negotiation reqtimeout rewrite setenvif ssl status version
    so log_config unixd""".split()
)
"""Modules that a host has; of others nothing is known."""
NO_SAY = frozenset(
    """addalt addaltbyencoding addaltbytype addcharset adddefaultcharset adddescription addencoding addicon
    addiconbyencoding addiconbytype addinputfilter addlanguage addoutputfilter addoutputfilterbytype addtype
    allowmethods authbasicauthoritative authbasicprovider authdigestdomain authdigestprovider authgroupfile
     authname authuserfile authzmerging authzsendforbiddenonfailure cgipassauth defaulticon
    defaultlanguage defaulttype deflatecompressionlevel enablemmap enablesendfile expiresactive expiresbytype
    expiresdefault fileetag forcelanguagepriority forcetype header headername indexheadinsert indexignore
    indexignorereset indexoptions indexorderdefault indexstylesheet languagepriority limitrequestbody
    limitxmlrequestbody modmimeusepathinfo multiviewsmatch php5_flag php_admin_flag php_admin_value php_ini
    php_value readmename removecharset removeencoding removeinputfilter removelanguage removeoutputfilter
    removetype requestheader rlimitmem rlimitnproc scriptinterpretersource serversignature passenv setenv setinputfilter
    setoutputfilter ssloptions sslrequiressl sslverifyclient suexecusergroup unsetenv usecanonicalname""".split()
)
"""Directives that decide nothing about which file answers, and who gets it."""
RARE = frozenset(
    """brotlicompressionquality bufferedlogs cachedisable cacheenable cgimapextension charsetdefault charsetoptions
    charsetsourceenc contentdigest htscanner logiotrackttfb lsphp_processgroup mcookiename metadir metafiles
    metasuffix modpagespeed pagespeed rlimitcpu secfilterengine secfilterscanpost substitute xbithack""".split()
)
"""The same of modules that many hosts lack: there each is a fault, unless a section around it asks for the module."""
_OF_RARE_MODULES = ("sec", "lsapi_", "suphp_", "modpagespeed", "passenger", "h2", "brotli", "cachelookup")
ENVIRONMENT = ("setenvif", "setenvifnocase", "browsermatch", "browsermatchnocase")
"""Directives that set variables by what a request says."""
NOT_HERE = frozenset(
    """virtualhost directory directorymatch location locationmatch proxy proxymatch documentroot servername serveralias
    serverroot listen loadmodule rewritemap rewritelock scriptalias scriptaliasmatch alias aliasmatch customlog errorlog
    user group include includeoptional accessfilename allowoverride sslengine sslcertificatefile""".split()
)
"""Directives and sections that are refused in a control file."""
OPTION_KEYS = {
    "followsymlinks": "follow", "symlinksifownermatch": "owner", "indexes": "lists", "multiviews": "views",
}  # fmt: skip
OPTIONS = frozenset(
    "all none indexes followsymlinks symlinksifownermatch multiviews execcgi includes includesnoexec".split()
)


TITLES = {
    name: title
    for title in """AcceptPathInfo AddHandler Allow AuthType Deny BrowserMatch BrowserMatchNoCase DirectoryIndex
    DirectoryIndexRedirect DirectorySlash ErrorDocument FallbackResource Options Order Redirect
    RedirectMatch RedirectPermanent RedirectTemp RemoveHandler Require RewriteBase RewriteCond
    RewriteEngine RewriteOptions RewriteRule Satisfy SetEnv SetEnvIf SetEnvIfNoCase SetHandler""".split()
    for name in [title.lower()]
}
"""Names of directives as people write them."""


def titled(name: str) -> str:
    return TITLES.get(name, name)


def is_rare(name: str) -> bool:
    """Whether a directive decides nothing, but is one that many servers do not know."""
    return name in RARE or name.startswith(_OF_RARE_MODULES)


def has_say(node: Node) -> bool:
    if isinstance(node, Section):
        return any(map(has_say, node.inner)) if node.name not in ("requireall", "requireany", "requirenone") else True
    if node.name == "options":
        return bool(options_meant(node.text.split()))
    return node.name not in NO_SAY and not is_rare(node.name)


def options_meant(words: Iterable[str]) -> set[str]:
    """The options among some that decide what answers."""
    names = [word.lstrip("+-").lower() for word in words]
    return {
        key for name in names for key in (("follow", "lists") if name == "all" else (OPTION_KEYS.get(name, ""),)) if key
    }
