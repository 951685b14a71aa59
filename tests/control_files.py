"""Random control files, composed from a grammar, on random accounts; and a real Apache that runs PHP, to ask."""

from __future__ import annotations

import http.client
import os
import random
import re
import ssl
from collections.abc import Iterable, Iterator
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass, field
from functools import cache
from itertools import product
from pathlib import Path
from typing import Literal, NamedTuple
from urllib.parse import quote, unquote

from kettlepost.core.webserver import Control, HeldAt, Reply, ServerRequest, Visitor, WebServer, compile_control
from servers import certificate
from webservers import MODULES, _program, _running, free_port

SERVER = WebServer(php="module", lists=False, index_files=("index.html", "index.php"))
"""The real server that is asked, as its record would be."""
FOLDERS = ["", "a", "b", "a/c", "a/c/d", "data", "My Folder"]
FILES = ["index.html", "index.php", "front.php", "page.txt", "start.html", "gone.html", "x.php", "läden.txt", "a b.txt"]
PATTERNS = ["^", "^(.*)$", "^(.+)$", ".", "^old/(.*)$", "^a/(.*)$", "^page\\.txt$", "(.*)\\.htm$", "^([a-z]+)/?$", "^b",
            "\\.(txt|php)$", "^/?nowhere", "!^front\\.php$", "^index\\.php$", "^(a|b)/(\\w+)", "^c/"]  # fmt: skip
TARGETS = ["front.php", "/front.php", "index.php", "/index.php", "front.php?q=$1", "/a/front.php", "$1", "/$1", "page.txt",
           "b/$1", "/gone.html", "-", "front.php/$1", "start.html", "/nowhere", "%{REQUEST_URI}.txt", "../front.php",
           "index.php?p=%1", "/data/page.txt"]  # fmt: skip
FLAGS = ["", "[L]", "[L,QSA]", "[END]", "[R]", "[R=301,L]", "[NC,L]", "[F]", "[G]", "[R=404]", "[PT]", "[L,NS]", "[QSD,L]",
         "[C]", "[S=1]", "[E=seen:1,L]", "[NE,R=302]", "[L,R=303]"]  # fmt: skip
CONDITIONS = [
    "%{REQUEST_FILENAME} !-f", "%{REQUEST_FILENAME} !-d", "%{REQUEST_FILENAME} -f", "%{REQUEST_FILENAME} -d",
    "%{REQUEST_FILENAME} !-l", "%{REQUEST_FILENAME} -s", "%{REQUEST_FILENAME} -f [OR]", "%{REQUEST_FILENAME} -d [OR]",
    "%{REQUEST_URI} ^/a", "%{REQUEST_URI} !^/b [NC]", "%{REQUEST_URI} !(\\.txt|\\.php)$", "%{HTTP_HOST} ^www\\. [NC]",
    "%{HTTP_HOST} ^(.+)$", "%{HTTP_HOST} !^www\\.", "%{HTTPS} off", "%{HTTPS} on", "%{HTTPS} !=on", "%{QUERY_STRING} ^$",
    "%{QUERY_STRING} p=(\\d+)", "%{QUERY_STRING} !q=", "%{REQUEST_METHOD} GET", "%{REQUEST_METHOD} ^POST$",
    "%{SERVER_PORT} ^443$", "%{ENV:REDIRECT_STATUS} ^$", "%{ENV:REDIRECT_STATUS} =200", "%{ENV:seen} !1",
    "%{DOCUMENT_ROOT}%{REQUEST_URI} -f", "%{DOCUMENT_ROOT}/a/%1 -d", "%{REQUEST_FILENAME}.txt -f", "%{PATH_INFO} ^$",
    "%{REQUEST_URI} =/page.txt", "%{THE_REQUEST} ^GET\\ /+a", "$1 ^(c|d)", "%{REMOTE_ADDR} ^127\\.", "%{SCRIPT_FILENAME} !-f",
    "%{IS_SUBREQ} =false", "%{QUERY_STRING} >a", "%{REQUEST_URI} \"^/a b\"", "expr \"%{REQUEST_URI} =~ m#^/a#\"",
]  # fmt: skip


def _rewriting(pick: random.Random) -> str:
    lines = [pick.choice(["RewriteEngine On", "RewriteEngine on", "RewriteEngine\tOn", 'RewriteEngine "On"'])] * (
        pick.random() < 0.9
    )
    lines += [f"RewriteBase {pick.choice(['/', '/a/', '/b', '/My%20Folder/'])}"] * (pick.random() < 0.35)
    lines += [
        f"RewriteOptions {pick.choice(['Inherit', 'InheritBefore', 'InheritDown', 'AllowNoSlash', 'MergeBase', 'IgnoreInherit'])}"
    ] * (pick.random() < 0.15)
    for _ in range(pick.randint(1, 3)):
        lines += [f"RewriteCond {pick.choice(CONDITIONS)}" for _ in range(pick.choice([0, 0, 1, 1, 2, 3]))]
        lines.append(f"RewriteRule {pick.choice(PATTERNS)} {pick.choice(TARGETS)} {pick.choice(FLAGS)}".strip())
    return "\n".join(lines)


def _shipped(pick: random.Random) -> str:
    return pick.choice([
        "# BEGIN\n<IfModule mod_rewrite.c>\nRewriteEngine On\nRewriteBase /\nRewriteRule ^index\\.php$ - [L]\nRewriteCond %{REQUEST_FILENAME} !-f\nRewriteCond %{REQUEST_FILENAME} !-d\nRewriteRule . /index.php [L]\n</IfModule>\n# END",
        "RewriteEngine on\nRewriteCond %{REQUEST_FILENAME} !-f\nRewriteCond %{REQUEST_FILENAME} !-d\nRewriteCond %{REQUEST_URI} !=/favicon.ico\nRewriteRule ^ index.php [L]",
        "RewriteEngine On\nRewriteRule ^(.*)$ a/$1 [L]",
        "RewriteEngine On\nRewriteCond %{REQUEST_URI} !^/a/\nRewriteRule ^(.*)$ /a/$1 [L]",
        "RewriteEngine On\nRewriteCond %{HTTPS} off\nRewriteRule ^(.*)$ https://%{HTTP_HOST}%{REQUEST_URI} [L,R=301]",
        "RewriteEngine On\nRewriteCond %{HTTP_HOST} !^www\\. [NC]\nRewriteRule ^ http://www.%{HTTP_HOST}%{REQUEST_URI} [R=301,L]",
        "RewriteEngine On\nRewriteCond %{HTTP_HOST} ^www\\.(.+)$ [NC]\nRewriteRule ^(.*)$ http://%1/$1 [R=301,L]",
        "RewriteEngine On\nRewriteCond %{ENV:REDIRECT_STATUS} 200\nRewriteRule .* - [L]\nRewriteRule ^(.*)$ front.php?u=$1 [QSA,L]",
        "RewriteEngine On\nRewriteRule ^(?!a/|index\\.php).*$ index.php [L]",
        "RewriteEngine On\nRewriteCond %{REQUEST_FILENAME} -s [OR]\nRewriteCond %{REQUEST_FILENAME} -l [OR]\nRewriteCond %{REQUEST_FILENAME} -d\nRewriteRule ^.*$ - [NC,L]\nRewriteRule ^.*$ index.php [NC,L]",
        "RewriteEngine On\nRewriteCond %{REQUEST_URI}::$1 ^(/.+)/(.*)::\\2$\nRewriteRule ^(.*) - [E=BASE:%1]\nRewriteCond %{REQUEST_FILENAME} !-f\nRewriteRule ^ %{ENV:BASE}/index.php [L]",
        "<IfModule mod_rewrite.c>\nRewriteEngine on\nRewriteRule (^\\.|/\\.) - [F]\n</IfModule>\n<FilesMatch \"\\.(txt|inc)$\">\nRequire all denied\n</FilesMatch>",
        "Options +FollowSymLinks\nRewriteEngine On\nRewriteCond %{REQUEST_FILENAME}.html -f\nRewriteRule ^(.+)$ $1.html [L]",
    ])  # fmt: skip


def _access(pick: random.Random) -> str:
    return pick.choice([
        "Require all denied", "Require all granted", "Require ip 127.0.0.1", "Require ip 203.0.113.0/24", "Require local",
        "Require not ip 127.0.0.1\nRequire all granted", "<RequireAll>\nRequire all granted\nRequire not ip 192.0.2\n</RequireAll>",
        "<RequireAny>\nRequire ip 192.0.2.1\nRequire method GET\n</RequireAny>", "Order deny,allow\nDeny from all",
        "Order allow,deny\nAllow from all", "Order deny,allow\nDeny from all\nAllow from 127.0.0.1", "Deny from 192.0.2",
        "Order allow,deny\nDeny from all", 'AuthType Basic\nAuthName "Members only"\nAuthUserFile /nowhere\nRequire valid-user',
        "AuthType Basic\nAuthName x\nAuthUserFile /nowhere\nRequire valid-user\nSatisfy Any\nOrder deny,allow\nDeny from all",
        '<Files "page.txt">\nRequire all denied\n</Files>', "<FilesMatch \"^(x|front)\\.php$\">\nOrder allow,deny\nDeny from all\n</FilesMatch>",
        "<Files ~ \"\\.txt$\">\n\tRequire all denied\n</Files>", "<Limit POST>\nRequire all denied\n</Limit>",
        "<LimitExcept GET>\nRequire all denied\n</LimitExcept>", "<Limit GET>\nRequire all denied\n</Limit>",
        "<If \"%{REQUEST_URI} =~ m#^/a/#\">\nRequire all denied\n</If>", "<RequireAll>\nRequire method POST\nRequire all granted\n</RequireAll>",
        "<RequireNone>\nRequire ip 127.0.0.1\n</RequireNone>\nRequire all granted",
        "AuthType Basic\nAuthName m\nAuthUserFile /nowhere\n<RequireAny>\nRequire valid-user\nRequire ip 127\n</RequireAny>",
    ])  # fmt: skip


def _other(pick: random.Random) -> str:
    return pick.choice([
        "DirectoryIndex start.html index.php", "DirectoryIndex front.php", "DirectoryIndex disabled", "DirectoryIndex a/front.php page.txt",
        "DirectoryIndex /front.php", "DirectoryIndex nope.html\nDirectoryIndex start.html", 'DirectoryIndex "a b.txt" index.html',
        "DirectorySlash Off", "DirectorySlash On", "FallbackResource /front.php", "FallbackResource /index.php", "FallbackResource disabled",
        "FallbackResource front.php", "FallbackResource /nowhere.php", "ErrorDocument 404 /gone.html", "ErrorDocument 403 /gone.html",
        'ErrorDocument 404 "not here"', "ErrorDocument 404 /index.php?e=404", "ErrorDocument 404 http://elsewhere.test/", "ErrorDocument 404 /nope.html",
        "ErrorDocument 403 /front.php", "AcceptPathInfo On", "AcceptPathInfo Off", "Options -Indexes", "Options +Indexes", "Options None",
        "Options -FollowSymLinks", "Options +SymLinksIfOwnerMatch", "Options All", "Redirect /old /a/", "Redirect 301 /page.txt http://elsewhere.test/p",
        "Redirect permanent /b /a", "Redirect gone /x.php", "Redirect 404 /data", "RedirectMatch ^/old/(.*)$ /a/$1", "RedirectMatch 301 \\.htm$ /gone.html",
        "RedirectMatch 403 ^/data", "RedirectPermanent /a/old http://elsewhere.test/x/", "RedirectTemp /start.html /gone.html", "Redirect / http://elsewhere.test/",
        "Redirect 302 /a/c/ /b/", "Header set X-A b", "AddType text/html .txt", "ExpiresActive On", "php_value memory_limit 64M", "SetEnv A b",
        "SetEnvIf Host x y=1", "AddDefaultCharset utf-8", "IndexIgnore *", "<IfModule mod_nothing.c>\nHeader set X y\n</IfModule>",
        "<IfModule !mod_rewrite.c>\nErrorDocument 404 /gone.html\n</IfModule>", "<IfVersion >= 2.4>\nRequire all granted\n</IfVersion>",
        "<IfDefine NOPE>\nRequire all denied\n</IfDefine>", "<If \"%{HTTP_HOST} == 'nobody.test'\">\nRequire all denied\n</If>", "# a comment \\\nRequire all denied",
        "AddHandler default-handler .php", "RemoveHandler .php", "<Files x.php>\nSetHandler default-handler\n</Files>", "Options +MultiViews", "NoSuchDirective x",
        "<Files unclosed>", "RewriteRule ( x", "Options Indexes -FollowSymLinks",
    ])  # fmt: skip


def _more(pick: random.Random) -> str:
    return pick.choice([
        '<If "%{QUERY_STRING} =~ /p=/">\nRedirect 301 / http://elsewhere.test/\n</If>\n<ElseIf "%{REQUEST_URI} =~ m#txt#">\nRequire all denied\n</ElseIf>\n<Else>\nDirectoryIndex front.php\n</Else>',
        '<If "%{HTTP_HOST} =~ /^www/">\nRedirect permanent / http://%{HTTP_HOST}/\n</If>',
        '<If "-f %{REQUEST_FILENAME}">\nErrorDocument 404 /gone.html\n</If>', '<If "%{REQUEST_URI} -strmatch \'/a/*\'">\nRequire all denied\n</If>',
        '<If "%{REQUEST_URI} in {\'/page.txt\',\'/b/\'}">\nRequire all denied\n</If>',
        '<If "tolower(%{REQUEST_URI}) == \'/page.txt\'">\nRequire all denied\n</If>',
        '<If "! -d %{REQUEST_FILENAME} && ! -f %{REQUEST_FILENAME}">\nErrorDocument 404 /front.php\n</If>',
        "Require expr %{REQUEST_URI} != '/page.txt'", 'Require expr "%{HTTP_HOST} =~ /^www/"', "Require method GET HEAD", "Require env OK",
        'SetEnvIf Request_URI "^/a" OK\nRequire env OK', 'SetEnvIf Request_URI "\\.txt$" bad\nOrder allow,deny\nAllow from all\nDeny from env=bad',
        "SetEnv OK 1\nRequire env OK", "SetEnvIfNoCase Host ^www OK=1\n<RequireAny>\nRequire env OK\nRequire ip 10.0.0.0/8\n</RequireAny>",
        "Order deny,allow\nDeny from all\nAllow from env=nothing", "DirectoryIndexRedirect on",
        "DirectoryIndexRedirect permanent\nDirectoryIndex start.html", "RewriteEngine On\nRewriteRule ^page\\.txt$ - [H=application/x-httpd-php]",
        "RewriteEngine On\nRewriteRule ^page\\.txt$ - [T=text/html]", "RewriteEngine On\nRewriteRule ^(.*)$ /$1 [B,R=301,C]\nRewriteRule ^ - [L]",
        "RewriteEngine On\nRewriteRule ^old/(.*)$ /a/$1 [R=301,L,NE]\nRewriteRule ^a/(.*)/$ /b/$1 [DPI,L]",
        "RewriteEngine On\nRewriteRule ^(.*)/x$ $1 [CO=a:b:example.com,L]",
        "RewriteEngine On\nRewriteCond %{HTTP_USER_AGENT} (bot|crawl|spider) [NC]\nRewriteRule ^ - [F]",
        "RewriteEngine On\nRewriteCond %{HTTP_COOKIE} !lang=de\nRewriteRule ^$ /a/ [R=302,L]",
        "RewriteEngine On\nRewriteCond %{HTTP_REFERER} !^$\nRewriteCond %{HTTP_REFERER} !example\nRewriteRule \\.(txt|html)$ - [F,NC]",
        "RewriteEngine On\nRewriteRule ^(.+[^/])$ /$1/ [R=301,L]",
        "RewriteEngine On\nRewriteCond %{REQUEST_URI} ^(.+)/$\nRewriteCond %{REQUEST_FILENAME} !-d\nRewriteRule ^ %1 [R=301,L]",
        "RewriteEngine On\nRewriteCond %{THE_REQUEST} \\s/+(.*?)index\\.(html|php)[\\s?] [NC]\nRewriteRule ^ /%1 [R=301,L]",
        "RewriteEngine On\nRewriteCond %{DOCUMENT_ROOT}/cache%{REQUEST_URI}.html -f\nRewriteRule . /cache%{REQUEST_URI}.html [L]\nRewriteCond %{REQUEST_FILENAME} !-f\nRewriteRule ^(.*)$ index.php?url=$1 [QSA,L]",
        "RewriteEngine On\nRewriteCond %{REQUEST_FILENAME} !-d\nRewriteCond %{REQUEST_FILENAME}.php -f\nRewriteRule ^(.*)$ $1.php [L]",
        "RewriteEngine On\nRewriteCond %{REQUEST_FILENAME} -d\nRewriteRule [^/]$ %{REQUEST_URI}/ [L,R=301]",
        "RewriteEngine On\nRewriteRule ^(application|system|data|\\.git)(/|$) - [F,L]\nRewriteCond %{REQUEST_FILENAME} -f [OR]\nRewriteCond %{REQUEST_FILENAME} -d\nRewriteRule ^ - [L]\nRewriteRule .* index.php/$0 [PT]",
        "RewriteEngine On\nRewriteCond $1 !^(index\\.php|images|robots\\.txt)\nRewriteRule ^(.*)$ /index.php/$1 [L]",
        "RewriteEngine On\nRewriteCond %{REQUEST_URI} !=/server-status\nRewriteCond %{REQUEST_URI} !^/\\.well-known\nRewriteRule (^|/)\\.(?!well-known) - [F]",
        "RewriteEngine On\nRewriteCond %{SERVER_PORT} !^443$\nRewriteRule (.*) https://%{SERVER_NAME}/$1 [R,L]",
        "RewriteEngine On\nRewriteBase /a\nRewriteRule ^c/(.*)$ d/$1", "RewriteEngine On\nRewriteBase /a/\nRewriteRule ^(.*)$ front.php [L,END]",
        "RewriteEngine On\nRewriteOptions InheritDownBefore\nRewriteRule ^page\\.txt$ /gone.html [L]", "RewriteEngine Off",
        "RewriteEngine On\nRewriteOptions Inherit", "RewriteEngine On\nRewriteOptions AllowNoSlash\nRewriteRule ^a$ /front.php [L]",
        "RewriteEngine On\nRewriteRule ^(.*)\\.txt$ $1.html [N]", "RewriteEngine On\nRewriteRule ^(\\w+)/(\\w+)$ ?x=$1&y=$2 [L]",
        "RewriteEngine On\nRewriteRule ^$ start.html\nRewriteRule ^start\\.html$ gone.html",
        "RewriteEngine On\nRewriteRule . - [E=x:%{REQUEST_URI}]\nRewriteCond %{ENV:x} ^/a\nRewriteRule ^ /front.php [L]",
        '<FilesMatch "^\\.">\nRequire all denied\n</FilesMatch>\n<Files "index.php">\nRequire all granted\n</Files>',
        '<Files "*.txt">\nDeny from all\n</Files>', '<FilesMatch "\\.(?i:txt|inc)$">\nOrder allow,deny\nDeny from all\n</FilesMatch>',
        '<Files "page.*">\nForceType text/plain\nSetHandler none\n</Files>',
        "<IfModule mod_authz_core.c>\nRequire all denied\n</IfModule>\n<IfModule !mod_authz_core.c>\nDeny from all\n</IfModule>",
        "<IfModule LiteSpeed>\nRewriteEngine on\nRewriteRule .* - [E=x:1]\n</IfModule>", "<Limit PUT DELETE>\nRequire all denied\n</Limit>",
        "<LimitExcept GET POST>\nDeny from all\n</LimitExcept>", "Redirect seeother /b/ /a/", "Redirect 307 /page.txt /gone.html",
        "Redirect 308 /a/c http://elsewhere.test/c", "RedirectMatch 302 ^/(\\w+)\\.htm$ /$1.html", "RedirectMatch gone ^/old", "RedirectMatch ^/$ /a/",
        "Redirect 301 /a /b/a", "RedirectMatch 301 (.*)\\.txt$ http://elsewhere.test$1.html?x=1", 'Redirect 301 "/a b.txt" /gone.html',
        "RedirectMatch 404 /\\..*$", "Redirect 503 /b", "ErrorDocument 404 default", 'ErrorDocument 403 "no', "ErrorDocument 404 /a/index.php",
        "ErrorDocument 500 /gone.html", "ErrorDocument 404 /front.php\nRewriteEngine On\nRewriteRule ^nope - [R=404,L]",
        "ErrorDocument 410 /gone.html\nRedirect gone /b", "AddType application/x-httpd-php .html", "AddHandler application/x-httpd-php .html .txt",
        "SetHandler application/x-httpd-php", "RemoveHandler .php .html", "AddHandler cgi-script .php", "Options +ExecCGI\nAddHandler cgi-script .cgi",
        "php_flag engine off", "AddType text/plain .php", "ForceType text/plain", "SetHandler default-handler", "AddEncoding x-gzip .gz",
        "AddOutputFilter INCLUDES .html\nOptions +Includes", "FileETag None", "LimitRequestBody 100", "ServerSignature Off",
        "IndexOptions FancyIndexing", "CGIPassAuth On", "AuthName x", "AuthType None\nRequire all granted",
        "AuthType Basic\nAuthName x\nAuthUserFile /nowhere\nRequire user bob\nErrorDocument 401 /gone.html",
        "AuthType Basic\nAuthName x\nAuthUserFile /nowhere\n<RequireAny>\nRequire valid-user\nRequire ip 127.0.0.1\n</RequireAny>",
        "AuthType Basic\nAuthName x\nAuthUserFile /nowhere\n<RequireAll>\nRequire valid-user\nRequire ip 10\n</RequireAll>",
        "AuthType Basic\nAuthName x\nAuthUserFile /nowhere\n<Files x.php>\nRequire valid-user\n</Files>", "AuthMerging And\nRequire all granted",
        "Satisfy Any", "Allow from 127", "Allow from localhost", "Options Indexes Includes", "Options -All", "Options FollowSymLinks",
        "Options +Indexes +FollowSymLinks", "Options SymLinksIfOwnerMatch", "DirectoryIndex index.php index.html\nDirectoryIndex disabled",
        "DirectoryIndex start.html disabled", "DirectoryIndex ../front.php", "DirectoryIndex a/", "DirectoryIndex", "FallbackResource disabled",
        'FallbackResource "/a b.txt"', "FallbackResource /front.php?x=1", "FallbackResource /a/",
        "FallbackResource index.php\nDirectoryIndex nope.html", "DirectorySlash Off\nOptions +Indexes", "AcceptPathInfo Default",
        "AcceptPathInfo On\nFallbackResource /page.txt",
    ])  # fmt: skip


@cache
def _written() -> list[str]:
    """Pieces and lines of control files as people have them."""
    here = Path(__file__).parent
    pieces = (here / "sites/blocks.txt").read_text().partition("\n++ ")[2].split("\n++ ")
    lines = [line.replace("\\n", "\n") for line in (here / "lines.txt").read_text().splitlines()]
    return [piece.partition("\n")[2] for piece in pieces] * 3 + lines


def _varied(pick: random.Random) -> str:
    """What somebody wrote, with one or two lines changed as people get them wrong, or write them otherwise."""
    lines = pick.choice(_written()).strip("\n").split("\n")
    for _ in range(pick.choice([0, 1, 1, 2])):
        at = pick.randrange(len(lines))
        name, _, rest = lines[at].strip().partition(" ")
        words = rest.split(" ")
        change = pick.randrange(8)
        if change == 0:
            lines[at] = pick.choice([name.lower(), name.upper()]) + f" {rest}"
        elif change == 1:
            lines[at] = f"{name}  {rest.replace(' ', '   ')} "
        elif change == 2 and rest:
            words[pick.randrange(len(words))] = pick.choice(
                ['"x"', "off", "On", "/page.txt", "[L]", "none", "all", "127.0.0.1", "^x$"]
            )
            lines[at] = f"{name} {' '.join(words)}"
        elif change == 3:
            lines[at] = f"{name} {' '.join(words[:-1])}"
        elif change == 4:
            lines[at] = f"{name} {rest} {pick.choice(['x', 'on', '301', '[NC]', '/x'])}"
        elif change == 5 and '"' not in rest and rest:
            number = pick.randrange(len(words))
            words[number] = f'"{words[number]}"'
            lines[at] = f"{name} {' '.join(words)}"
        elif change == 6:
            lines[at] = f"#{lines[at]}"
        else:
            lines.insert(at, lines[at])
    return "\n".join(lines)


def control_file(pick: random.Random) -> str:
    """A control file of one to three parts, with tabs and quotes and line ends of every kind."""
    kinds = [_rewriting, _rewriting, _shipped, _access, _other, _other, _more, _more, _varied, _varied, _varied]
    text = "\n".join(pick.choice(kinds)(pick) for _ in range(pick.choice([1, 1, 2, 3]))) + "\n"
    if pick.random() < 0.15:
        text = re.sub(r"^(\w+) ", r"\1\t", text, flags=re.MULTILINE)
    if pick.random() < 0.1:
        text = f"<IfModule mod_dir.c>\n  {text}</IfModule>\n"
    return text.replace("\n", "\r\n") if pick.random() < 0.1 else text


@dataclass
class World:
    """One account with control files: its files by path, its links, its hosts with their roots, and what is asked."""

    number: int
    tree: dict[str, str] = field(default_factory=dict)
    links: dict[str, str] = field(default_factory=dict)
    hosts: dict[str, str] = field(default_factory=dict)
    aliases: dict[str, str] = field(default_factory=dict)
    asked: list[tuple[str, str]] = field(default_factory=list)
    home: Path = Path()
    name: str = ""

    @property
    def ip(self) -> str:
        """Where its hosts are served, as those of several may have the same names."""
        return f"127.0.{self.number // 250 + 1}.{self.number % 250 + 1}"


def random_world(seed: int, number: int) -> World:
    pick = random.Random(seed)
    world = World(number)
    folders = [one for one in FOLDERS if not one or pick.random() < 0.75]
    for folder in folders:
        place = "/".join(filter(None, ("www", folder)))
        world.tree[place + "/"] = ""
        for name in pick.sample(FILES, pick.randint(1, 5)):
            world.tree[f"{place}/{name}"] = ""
        if pick.random() < (0.75 if not folder else 0.25):
            world.tree[f"{place}/.htaccess"] = control_file(pick)
    if pick.random() < 0.15:
        world.tree[".htaccess"] = control_file(pick)
    if pick.random() < 0.3:
        world.links["www/link"] = pick.choice(["a", "page.txt", "broken", "."])
    host = f"w{number}.example"
    world.hosts = {host: "www", f"www.{host}": "www"}
    if "a" in folders and pick.random() < 0.3:
        world.hosts[f"sub.{host}"] = "www/a"
    if pick.random() < 0.2:
        world.aliases["mapped"] = pick.choice(["www/a", "www/b", "www"])
    names = [*FILES, "", "nowhere", "old/x", "a", "a/", "b/", "a/c/", "a/nope/x", "index.php/x/y", "page.txt/", "page.txt/x", "a/index.html",
             "x.php/", ".htaccess", ".hidden", "a//c/", "./a/../page.txt", "A/", "b", "data/", "data", "link", "link/", "link/page.txt", "page",
             "My Folder/", "nope.php", "a/front.php", "a/c/d/", "x.htm", "old/page.txt", "mapped/", "mapped/page.txt", "mapped", "nobody",
             "a/old/x", "c/x", "start", "index", "%61/", "page.txt?p=12", "?q=1&p=3", "a/?p=7", "nowhere?p=1"]  # fmt: skip
    for _ in range(24):
        world.asked.append((pick.choice(list(world.hosts)), pick.choice(names)))
    return world


def package_worlds(packages: Iterable[Path]) -> list[World]:
    """A world for each package that ships control files: they as they are, beside files named as theirs."""
    worlds = []
    for package in packages:
        found = [path for path in package.rglob("*htaccess") if path.is_symlink() or path.is_file()]
        world, asked = World(len(worlds)), []
        for path in found:
            real = _within(package, path)
            text = real.read_bytes().decode("utf-8", "surrogateescape") if real is not None else None
            place = f"www/{path.parent.relative_to(package)}"
            if text is None or f"{place}/.htaccess" in world.tree:
                continue
            world.tree[f"{place}/.htaccess"] = text
            for other in sorted(path.parent.iterdir())[:25]:
                if other.name != ".htaccess" and not other.name.startswith("index."):
                    world.tree[f"{place}/{other.name}/" if other.is_dir() else f"{place}/{other.name}"] = ""
            world.tree |= {f"{place}/index.php": "", f"{place}/inner/page.html": "", f"{place}/inner/run.php": ""}
            names = [name.removeprefix(f"{place}/") for name in world.tree if name.startswith(f"{place}/")]
            asked += [f"{place}/{name}".removeprefix("www/") for name in
                      ("", *names, "nowhere", "no/where.css", "index.php/x", "robots.txt", ".git/config", "x.bak", ".well-known/x",
                       "style.1234.css", "login?a=1", "a%20b", "run.phps", "config.inc", "inner")]  # fmt: skip
        if asked:
            host = f"w{world.number}.example"
            world.hosts = {host: "www", f"www.{host}": "www"}
            world.asked = [(f"www.{host}" if n % 3 == 2 else host, path) for n, path in enumerate(dict.fromkeys(asked))]
            worlds.append(world)
    return worlds


def _within(package: Path, path: Path) -> Path | None:
    """The file of a package that a path of it is, with links taken as they lead once it is installed."""
    for _ in range(5):
        if not path.is_symlink():
            return path if path.is_file() else None
        target = os.readlink(path)
        path = package / target.lstrip("/") if target.startswith("/") else path.parent / target
    return None


def lay_out(world: World, home: Path) -> None:
    world.home = home
    for path in world.tree:
        place = home / path
        place.parent.mkdir(parents=True, exist_ok=True)
        if path.endswith("/"):
            place.mkdir(parents=True, exist_ok=True)
        elif path.endswith(".htaccess"):
            place.write_bytes(world.tree[path].encode())
        else:
            place.write_text(f'<?php echo "{path}";' if path.endswith(".php") else path)
    for link, target in world.links.items():
        (home / link).symlink_to(target)


class Disk:
    """A home on disk, as the engine asks for it."""

    def __init__(self, home: Path, server: WebServer = SERVER):
        self._home = home
        self._server = server
        self.control = cache(self._control)
        self.held: HeldAt = {}

    def stands(self, path: str) -> Literal["file", "folder", "nothing", "unknown"]:
        place = self._home / path
        return "folder" if place.is_dir() else "file" if place.is_file() else "nothing"

    def is_link(self, path: str) -> bool:
        return (self._home / path).is_symlink()

    def has_variant(self, path: str) -> bool | None:
        place = self._home / path
        return any(other.name.startswith(f"{place.name}.") for other in place.parent.glob("*"))

    def is_empty_file(self, path: str) -> bool | None:
        return (self._home / path).stat().st_size == 0

    def _control(self, folder: str) -> Control | None:
        place = self._home / folder / ".htaccess"
        return (
            compile_control(folder, place.read_bytes().decode("utf-8", "surrogateescape"), self._server)
            if place.is_file()
            else None
        )


def asked_of(world: World, host: str, written: str, method: str = "GET", scheme: str = "http",
             server: WebServer = SERVER) -> ServerRequest:  # fmt: skip
    path, mark, query = written.partition("?")
    keys: dict[str, object] = {"root": world.hosts[host]}
    for alias, folder in world.aliases.items():
        if path == alias or path.startswith(alias + "/"):
            keys = {"root": folder, "alias": alias, "document_root": world.hosts[host]}
    return ServerRequest(host, "/" + path, query=query if mark else None, home=str(world.home), visitor=Visitor("127.0.0.1", method),
                 server=server, scheme=scheme, **keys)  # type: ignore[arg-type]  # fmt: skip


def php_module() -> Path | None:
    """PHP as a module of the server, whichever version there is."""
    return next(iter(sorted(MODULES.glob("libphp*.so"), reverse=True)), None)


def php_fpm() -> Path | None:
    """PHP as a server of its own."""
    return next(iter(sorted(Path("/usr/sbin").glob("php-fpm*"), reverse=True)), None)


class Ports(NamedTuple):
    http: int
    https: int


@contextmanager
def apache(folder: Path, worlds: list[World], server: WebServer = SERVER) -> Iterator[Ports]:
    """A server with the hosts of each account at an address of its own, by http and by https, set up as its record says."""
    ports, pem = Ports(free_port(), free_port()), certificate(folder, "server.example")
    names = ["mpm_prefork", "authn_core", "authn_file", "authz_core", "authz_user", "authz_host", "auth_basic", "access_compat", "dir", "alias",
             "rewrite", "mime", "headers", "expires", "env", "setenvif", "autoindex", "negotiation", "filter", "deflate", "authz_groupfile",
             "socache_shmcb", "ssl", *server.modules]  # fmt: skip
    lines = [f"LoadModule {name}_module {MODULES}/mod_{name}.so" for name in names]
    runs = {"module": "application/x-httpd-php", "fastcgi": f"proxy:fcgi://127.0.0.1:{free_port()}"}.get(
        server.php or ""
    )
    lines += [f"LoadModule php_module {php_module()}"] if server.php == "module" else []
    lines += [f"ServerRoot {folder}", f"PidFile {folder}/pid", f"ErrorLog {folder}/error.log", "ServerName localhost", "TypesConfig /dev/null",
              f"DirectoryIndex {' '.join(server.index_files or ())}", "MaxRequestWorkers 8", "StartServers 4", "KeepAlive On",
              "<FilesMatch \"^\\.ht\">", "Require all denied", "</FilesMatch>", "AddDefaultCharset utf-8"]  # fmt: skip
    lines += ['<FilesMatch "\\.ph(ar|p|tml)$">', f'SetHandler "{runs}"', "</FilesMatch>"] if runs else []
    lines += ["User nobody", "Group nogroup"] if os.getuid() == 0 else []
    links = {"always": "FollowSymLinks", "owner": "SymLinksIfOwnerMatch", "never": ""}[server.follow_links]
    for world in worlds:
        lines += [f"<Directory {world.home}>", f"AllowOverride {' '.join(server.allow_override)}",
                  f"Options {links} {'Indexes' if server.lists else ''} ExecCGI", "Require all granted", "</Directory>"]  # fmt: skip
        lines += [f"Listen {world.ip}:{port}" for port in ports]
        for (host, root), (scheme, port) in product(world.hosts.items(), ports._asdict().items()):
            lines += [
                f"<VirtualHost {world.ip}:{port}>",
                f"ServerName {scheme}://{host}",
                f'DocumentRoot "{world.home / root}"',
            ]
            lines += [f'Alias "/{alias}" "{world.home / there}"' for alias, there in world.aliases.items()]
            lines += ["SSLEngine on", f"SSLCertificateFile {pem}"] if scheme == "https" else []
            lines.append("</VirtualHost>")
    (folder / "httpd.conf").write_text("\n".join(lines) + "\n")
    with ExitStack() as running:
        if runs and runs.startswith("proxy:"):
            where = runs.removeprefix("proxy:fcgi://")
            conf = folder / "fpm.conf"
            own = "user = nobody\ngroup = nogroup\n" if os.getuid() == 0 else ""
            conf.write_text(f"[global]\nerror_log = {folder}/fpm.log\n[www]\nlisten = {where}\n{own}pm = static\npm.max_children = 3\n"
                            "security.limit_extensions = .php .phtml .phar\n")  # fmt: skip
            running.enter_context(_running([str(php_fpm()), "-F", "-y", str(conf)], int(where.rpartition(":")[2])))
        running.enter_context(
            _running(
                [str(_program("apache2")), "-DFOREGROUND", "-f", str(folder / "httpd.conf")], ports.http, worlds[0].ip
            )
        )
        yield ports


class Asker:
    """Asks for the hosts of one account, over one connection."""

    def __init__(self, world: World, ports: Ports, scheme: str = "http"):
        self._port = ports.https if scheme == "https" else ports.http
        if scheme == "https":
            nobody = ssl.create_default_context()
            nobody.check_hostname, nobody.verify_mode = False, ssl.CERT_NONE
            self._connection = http.client.HTTPSConnection(world.ip, self._port, timeout=20, context=nobody)
        else:
            self._connection = http.client.HTTPConnection(world.ip, self._port, timeout=20)

    def __call__(self, host: str, written: str, method: str = "GET") -> tuple[int, str, str]:
        """The status, the body, and where it sends."""
        path, mark, query = written.partition("?")
        target = "/" + quote(path, safe="/%~!$&'()*+,;=:@") + (f"?{query}" if mark else "")
        for _ in range(2):
            try:
                self._connection.request(method, target, headers={"Host": host, "User-Agent": "Mozilla/5.0"})
                reply = self._connection.getresponse()
                body = reply.read().decode("utf-8", "replace")
                goes = (
                    (reply.getheader("Location") or "")
                    .encode("latin-1")
                    .decode("utf-8", "replace")
                    .replace(f":{self._port}", "")
                )
                return reply.status, body, goes
            except (http.client.HTTPException, OSError):
                self._connection.close()
        return 0, "", ""


def differs(reply: Reply, really: tuple[int, str, str], home: Path, method: str = "GET") -> str | None:
    """How a reply differs from what a server answered; None where it does not."""
    status, body, goes = really
    if reply.passed_to:  # what answers then is not for the server to say
        return None
    if reply.status != status:
        return f"status {status}, not {reply.status}"
    if 300 <= status < 400 and unquote(goes) != unquote(reply.location or ""):
        return f"sends to {goes}, not {reply.location}"
    if method in ("HEAD", "OPTIONS"):  # which get no content
        return None
    place = home / (reply.file or "")
    if reply.file is not None and body not in (
        place.resolve().relative_to(home.resolve()).as_posix(),
        place.read_bytes().decode("utf-8", "replace"),
    ):
        return f"shows {body[:60]!r}, not {reply.file}"
    if reply.file is None and status == 200 and reply.folder is None:
        return f"shows {body[:60]!r}, of which nothing is said"
    if reply.file is None and status >= 400 and "<title>" not in body and not _is_text(body, home):
        return f"shows {body[:60]!r} with {status}"
    return None


def _is_text(body: str, home: Path) -> bool:
    """Whether a text is one that a control file gives in place of a page, or PHP's own."""
    own = [path.read_text("utf-8", "replace") for path in home.rglob(".htaccess")]
    return body == "File not found.\n" or any(body in text for text in own)
