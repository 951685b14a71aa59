"""Random configurations of web servers, put together of what their documentation offers."""

from __future__ import annotations

import random
import re
from collections.abc import Iterator
from functools import cache

from configurations import Case, cases

PLACES = ["", "/news", "/private", "/private/open", "/files", "/app", "/img", "/empty", "/data", "/uploads", "/admin"]
FILES = [
    "index.html",
    "about.html",
    "index.php",
    "page.php",
    "app/index.php",
    "news/first.html",
    "errors/404.html",
    "app/page.html",
]


def apache(seed: int) -> Case:
    """A configuration of the Apache HTTP Server."""
    pick = random.Random(seed)
    own = ("Require", "Order", "Allow", "Deny", "Satisfy", "Auth", "<", "Rewrite")
    lines = [line for line in _apache_plain(pick, 2) if not line.startswith(own)] if pick.random() < 0.4 else []
    lines += [line for _ in range(pick.choice([0, 0, 1])) for line in _apache_section(pick)]
    hosts = ["site.example", "other.example", "wild.site.example"]
    blocks = []
    for host, root in (("site.example", "www"), ("other.example", pick.choice(["www/app", "other", "www/news"])),
                       ("*.site.example", pick.choice(["names/one", "static"]))):  # fmt: skip
        names = [f"ServerName {host}"] if host[0] != "*" else ["ServerName any.site.test", f"ServerAlias {host}"]
        block = ["<VirtualHost *:@80@>", *names, f"DocumentRoot @HOME@/{root}"]
        count = pick.randint(2, 6) if root == "www" else pick.randint(0, 2)
        for _ in range(count):
            block += _apache_section(pick) if pick.random() < 0.6 else _apache_host_line(pick)
        blocks.append([*block, "</VirtualHost>"])
    pick.shuffle(blocks)
    files = {}
    for place in pick.sample(PLACES, pick.choice([0, 1, 2])):
        files[f"www{place}/.htaccess"] = "\n".join(_apache_plain(pick, pick.randint(1, 3))) + "\n"
    text = "\n".join([*lines, *(line for block in blocks for line in block)]) + "\n"
    return Case("apache", f"random {seed}", text, hosts, files, [])


def _apache_section(pick: random.Random) -> list[str]:
    place, inner = pick.choice(PLACES), _apache_plain(pick, pick.randint(1, 3))
    head, name = pick.choice([
        (f'<Directory "@HOME@/www{place}">', "Directory"), (f'<Directory "@HOME@/www{place}">', "Directory"),
        (f"<Location {place or '/'}>", "Location"), (f'<Location "{place}/">', "Location"),
        (f'<LocationMatch "{pick.choice(["^/(news|app)/", r"[.](php|html)$", "^/private", "(?i)^/ADMIN", "/$"])}">', "LocationMatch"),
        (f'<DirectoryMatch "{pick.choice(["/(img|data)(/|$)", "/www/n", r"/[.]", "open$"])}">', "DirectoryMatch"),
        (f'<Directory "@HOME@/{pick.choice(["*", "www/*", "w*/private"])}">', "Directory"),
        (f'<FilesMatch "{pick.choice([r"[.](bak|sql|pdf)$", "^index", r"[.]php$", "^a"])}">', "FilesMatch"),
        (f"<Files {pick.choice(['about.html', '*.jpg', 'index.*', 'x.html'])}>", "Files"),
        (f'<If "{pick.choice(IFS)}">', "If"),
    ])  # fmt: skip
    if name in ("Files", "FilesMatch", "If", "Location", "LocationMatch"):
        apart = ("Rewrite", "AllowOverride", "<", "Require not")
        inner = [line for line in inner if not line.startswith(apart)] or ["Require all denied"]
    if name in ("DirectoryMatch",):
        inner = [line for line in inner if not line.startswith("Rewrite")] or ["Require all denied"]
    if name == "Directory" and pick.random() < 0.4:
        inner.append(pick.choice(["AllowOverride All", "AllowOverride None", "AllowOverride FileInfo Indexes",
                                  "AllowOverride AuthConfig Limit", "AllowOverride All"]))  # fmt: skip
    if name in ("If",):
        inner = [line for line in inner if not line.startswith("Options")] or ["Require all denied"]
    return [head, *inner, f"</{name}>"]


IFS = [
    "%{REQUEST_URI} =~ m#^/news#", "%{HTTP_HOST} == 'site.example'", "%{QUERY_STRING} =~ /q=/", "-f %{REQUEST_FILENAME}",
    "%{REQUEST_METHOD} == 'POST'", "! -d %{REQUEST_FILENAME}", "%{HTTPS} == 'on'", "%{REQUEST_URI} -strmatch '*.html'",
]  # fmt: skip


def _apache_plain(pick: random.Random, most: int) -> list[str]:
    return [line for _ in range(most) for line in pick.choice([
        ["Require all denied"], ["Require all granted"], ["Require all granted"], ["Require ip 127.0.0.1"], ["Require ip 192.0.2.0/24"],
        ["AuthType Basic", "AuthName x", "AuthUserFile @USERS@", "Require valid-user"], ["Order deny,allow", "Deny from all"],
        ["Order allow,deny", "Allow from 127.0.0.1"], ["Options +Indexes"], ["Options -Indexes"], ["Options None"],
        ["Options Indexes FollowSymLinks"], [f"DirectoryIndex {pick.choice(FILES)}"], ["DirectoryIndex about.html index.php"],
        ["DirectoryIndex disabled"], [f"FallbackResource /{pick.choice(FILES)}"], ["FallbackResource disabled"],
        [f"ErrorDocument 404 /{pick.choice(FILES)}"], [f"ErrorDocument 403 /{pick.choice(FILES)}"], ["ErrorDocument 404 default"],
        ["DirectorySlash Off"], ["AcceptPathInfo On"], ["AcceptPathInfo Off"], ["Redirect 301 /old https://new.example/old"],
        ["RedirectMatch 302 ^/app/deep https://new.example/x"], ["Redirect gone /data/a.bak"],
        ["RewriteEngine On", f"RewriteRule ^about$ {pick.choice(FILES)} [L]"],
        ["RewriteEngine On", "RewriteCond %{REQUEST_FILENAME} !-f", "RewriteCond %{REQUEST_FILENAME} !-d",
         f"RewriteRule ^ /{pick.choice(FILES)} [L]"],
        ["RewriteEngine On", "RewriteRule ^old/(.*)$ https://new.example/$1 [R=301,L]"], ["<RequireAll>", "Require all granted", "Require not ip 127.0.0.1",
         "</RequireAll>"], ["Satisfy Any"], ["AuthMerging Or"], ["SetHandler default-handler"],
        ["<Limit POST>", "Require all denied", "</Limit>"], ["Header set X-A b"], ["ExpiresActive On"],
    ])]  # fmt: skip


def _apache_host_line(pick: random.Random) -> list[str]:
    return pick.choice([
        ["Redirect 301 /old https://new.example/old"], ["Redirect 302 /news/ https://new.example/"], ["RedirectMatch 404 /\\.git"],
        ["RedirectMatch 301 ^/app/(.*)$ https://app.example/$1"], ["Redirect gone /data"], ["Alias /media @HOME@/media"],
        ["Alias /static/ @HOME@/static/"], ["AliasMatch ^/css/(.*)$ @HOME@/static/css/$1"], ["Alias /news @HOME@/other"],
        ["RewriteEngine On", "RewriteRule ^/about$ /about.html [L]"], ["RewriteEngine On", "RewriteRule ^/old/(.*)$ /news/$1 [R=301,L]"],
        ["RewriteEngine On", "RewriteRule ^/only\\.html$ /about.html [PT]"], ["RewriteEngine On", "RewriteRule ^/data/ - [F]"],
        ["RewriteEngine On", "RewriteCond %{DOCUMENT_ROOT}%{REQUEST_URI} !-f", "RewriteRule ^/app/ /app/index.php [L]"],
        ["RewriteEngine On", "RewriteCond %{HTTP_HOST} ^other", "RewriteRule ^/?(.*)$ https://site.example/$1 [R,L]"],
        ["ProxyPass /app/ http://127.0.0.1:9/"], ["ProxyPass /app/page.html !", "ProxyPass /app http://127.0.0.1:9/"],
        ["DirectoryIndex index.php index.html"], ["FallbackResource /index.php"], [f"ErrorDocument 404 /{pick.choice(FILES)}"],
        ["ServerAlias www.site.test"], ["php_admin_flag engine off"], ["DirectorySlash Off"], ["UserDir disabled"],
    ])  # fmt: skip


def nginx(seed: int) -> Case:
    """A configuration of nginx."""
    pick = random.Random(seed)
    lines = list(_nginx_plain(pick)) if pick.random() < 0.3 else []
    for host, root in (("site.example", "www"), ("other.example", pick.choice(["other", "www/app"]))):
        block = ["server {", "listen 127.0.0.1:@80@;", f"server_name {host};", f"root @HOME@/{root};"]
        places: set[str] = set()
        for _ in range(pick.randint(2, 7) if root == "www" else pick.randint(0, 2)):
            more = _nginx_location(pick, places, 0) if pick.random() < 0.75 else _nginx_server_line(pick)
            block += more if not more or more[0] not in block else []
        if any("@named" in line for line in [*lines, *block]):
            block += ["location @named {", *_nginx_plain(pick), "}"]
        lines += [*_once(block), "}"]
    return Case("nginx", f"random {seed}", "\n".join(lines) + "\n", ["site.example", "other.example"], {}, [])


def _once(lines: list[str]) -> list[str]:
    """Lines without those of which a server takes one in a block alone."""
    found: list[str] = []
    depth, seen = 0, set[tuple[int, int, str]]()
    block = [0]
    for number, line in enumerate(lines):
        name = line.split(" ")[0]
        if line.endswith("{"):
            block.append(number)
            depth += 1
        key = (depth, block[-1], name)
        if line == "}":
            block.pop()
            depth -= 1
        if name in ("root", "alias", "try_files", "autoindex", "auth_basic", "auth_basic_user_file", "satisfy", "index",
                    "recursive_error_pages", "internal;", "expires", "access_log"):  # fmt: skip
            other = {"root": "alias", "alias": "root"}.get(name)
            if key in seen or (other and (depth, block[-1], other) in seen):
                continue
            seen.add(key)
        found.append(line)
    return found


def _nginx_location(pick: random.Random, places: set[str], depth: int) -> list[str]:
    path = pick.choice(PLACES[1:])
    match = pick.choice([
        "/", f"{path}/", f"{path}/", path, f"= {path}/", f"= {path}", f"^~ {path}/", "~ \\.php$", "~* \\.(jpg|css|html)$", f"~ ^{path}",
        "~ /\\.", "= /about.html", "= /", "~ ^/(news|files)/(.*)$", "/app/page.html",
    ])  # fmt: skip
    if match in places or (depth and not match.startswith("~")):
        return []
    places.add(match)
    inner = [line for _ in range(pick.randint(0, 3)) for line in _nginx_plain(pick)]
    if match.startswith(("/", "^~")) and pick.random() < 0.15:
        inner.append(
            f"alias @HOME@/{pick.choice(['other', 'static', 'www/news'])}{'/' if match.endswith('/') else ''};"
        )
    if not depth and not match.startswith("=") and pick.random() < 0.15:
        inner += _nginx_location(pick, set(), 1)
    return [f"location {match} {{", *inner, "}"]


def _nginx_plain(pick: random.Random) -> list[str]:
    return pick.choice([
        ["deny all;"], ["allow 127.0.0.1;", "deny all;"], ["allow 192.0.2.0/24;", "deny all;"], ["allow all;"],
        ['auth_basic "x";', "auth_basic_user_file @USERS@;"], ["auth_basic off;"], ["satisfy any;"], ["autoindex on;"], ["autoindex off;"],
        ["index index.php index.html;"], ["index about.html;"], ["index none.html /about.html;"], [f"root @HOME@/{pick.choice(['www', 'other', 'www/app'])};"],
        [f"error_page 404 /{pick.choice(FILES)};"], [f"error_page 403 =200 /{pick.choice(FILES)};"], ["error_page 404 = @named;"],
        ["error_page 404 =302 https://new.example/;"], ["expires 1d;"], ["access_log off;"], ["recursive_error_pages on;"],
    ]) if pick.random() < 0.5 else pick.choice([["expires 1d;"], *_NGINX_IN_SERVERS])  # fmt: skip


_NGINX_IN_SERVERS = [["add_header X-A b;"], ["autoindex on;"], ["index index.html index.php;"]]


def _nginx_server_line(pick: random.Random) -> list[str]:
    return pick.choice([
        ["rewrite ^/old/(.*)$ /news/$1 last;"], ["rewrite ^/old/(.*)$ https://new.example/$1 permanent;"], ["rewrite ^/about$ /about.html;"],
        ["if ($request_uri ~ q=1) { return 302 /news/; }"], ["if ($host = other.example) { return 301 https://site.example$request_uri; }"],
        ["if (!-e $request_filename) { rewrite ^ /index.php; }"], ["return 301 https://new.example$request_uri;"] * (pick.random() < 0.1),
        ["try_files $uri $uri/ /index.php?$args;"], ["location / {", pick.choice(_IN_ROOT), "}"], ["try_files $uri =404;"],
        ["location /app/deep {", pick.choice(_IN_ROOT), "}"], ["location ~ ^/no {", pick.choice(_IN_ROOT), "}"],
    ])  # fmt: skip


_IN_ROOT = [
    "try_files $uri $uri/ /index.php?q=$uri&$args;",
    "try_files $uri $uri/ =404;",
    "try_files $uri $uri.html $uri/ @named;",
    "try_files $uri /index.html;",
    "rewrite ^/(.*)/$ /$1 permanent;",
    "if (!-f $request_filename) { rewrite ^ /app/page.html last; }",
    "return 200 ok;",
    "return 403;",
    "rewrite ^ /about.html break;",
    "proxy_pass http://127.0.0.1:9;",
    "rewrite ^/(\\w+)$ /$1.html last;",
    "if (-d $request_filename) { return 404; }",
    "try_files /maintenance.html $uri;",
    "return 302 https://new.example$uri$is_args$args;",
]


def spliced(kind: str, seed: int) -> Case:
    """A configuration of pieces of whole ones, as `tests/servers` has them: what one makes of the other."""
    pick, blocks, files = random.Random(seed), [], dict[str, str]()
    hosts = {"site.example": "www", "other.example": pick.choice(["other", "www/app", "www", "public"])}
    for host, root in hosts.items():
        drawn = [pick.choice(_pieces(kind)) for _ in range(pick.randint(2, 7) if root == "www" else pick.randint(0, 3))]
        body: dict[str, str] = {}
        for case, piece in drawn:  # a location stands in a server once
            body.setdefault(piece.strip().partition("{")[0] if kind == "nginx" else piece, piece)
            files |= case.files
        if kind == "apache":
            names = [f"ServerName {host}", f"DocumentRoot @HOME@/{root}"]
            blocks += ["<VirtualHost *:@80@>", *names, *body.values(), "</VirtualHost>"]
        else:
            names = ["listen 127.0.0.1:@80@;", f"server_name {host};", f"root @HOME@/{root};"]
            blocks += ["server {", *names, *body.values(), "}"]
    around = r"(?ms)^    (?:map|geo|upstream) .*?^    \}$"
    maps = {text for case in cases("nginx") for text in re.findall(around, case.text)} if kind == "nginx" else ()
    return Case(kind, f"random {seed}", "\n".join([*sorted(maps), *blocks]) + "\n", [*hosts], files, [])


@cache
def _pieces(kind: str) -> list[tuple[Case, str]]:
    whole = [case for case in cases(kind) if "@WHOLE@" not in case.text]
    cut = _of_apache if kind == "apache" else _of_nginx
    return [(case, piece) for case in whole for piece in cut(case.text)]


def _of_apache(text: str) -> Iterator[str]:
    """The sections and lines of hosts: rules together, and conditions with what is for where they are not met."""
    for host in re.findall(r"(?s)<VirtualHost[^>]*>\n(.*?)</VirtualHost>", text):
        lines = [line for line in host.splitlines() if line.strip()]
        steps = [bool(re.match(r"\s*<\w", line)) - line.strip().startswith("</") for line in lines]
        for piece in _blocks(lines, steps, _GOES_ON):
            if not re.match(r"(?i)\s*(server|documentroot|ssl|virtualdocumentroot)", piece):
                yield piece


def _of_nginx(text: str) -> Iterator[str]:
    """The blocks and lines of servers, but for what makes them those."""
    for server in re.findall(r"(?ms)^    server \{\n(.*?)^    \}", text):
        lines = [line for line in server.splitlines() if line.strip()]
        steps = [line.endswith("{") - (line.endswith("}") and "{" not in line) for line in lines]
        for piece in _blocks(lines, steps):
            if not re.match(r"\s*(listen|server_name|root|ssl|return (301 https|30\d http|444|404))", piece):
                yield piece


_GOES_ON = re.compile(r"\s*(?:<else|rewrite)", re.IGNORECASE)
"""What goes on with what stands before it."""


def _blocks(lines: list[str], steps: list[int], goes_on: re.Pattern[str] | None = None) -> Iterator[str]:
    """Lines together, as far as one opens what another closes, or goes on with what stands before it."""
    piece, depth = list[str](), 0
    for line, step in zip(lines, steps, strict=True):
        if piece and not depth and (goes_on is None or not goes_on.match(line)):
            yield "\n".join(piece)
            piece = []
        piece.append(line)
        depth += step
    yield "\n".join(piece)
