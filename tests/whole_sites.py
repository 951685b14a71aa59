"""Whole accounts with the control files people have, as tests/sites has them, and what visitors ask of each."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path

from control_files import World

SITES = Path(__file__).with_name("sites")
TREES = {
    "press": """index.php wp-login.php wp-config.php xmlrpc.php readme.html license.txt robots.txt favicon.ico maintenance.html start.html
        wp-admin/index.php wp-admin/admin-ajax.php wp-admin/includes/file.php wp-admin/css/login.css wp-includes/functions.php
        wp-includes/ms-files.php wp-includes/js/jquery.js wp-content/index.php wp-content/uploads/2024/05/photo.jpg
        wp-content/uploads/2024/05/photo.webp wp-content/uploads/2024/05/photo.jpg.webp wp-content/uploads/evil.php wp-content/uploads/a.pdf
        wp-content/plugins/one/one.php wp-content/plugins/one/readme.txt wp-content/themes/own/style.css errors/403.html errors/404.html
        .well-known/acme-challenge/token .env error_log
        wp-content/cache/supercache/site.example/index.html wp-content/cache/supercache/site.example/about/index.html
        wp-content/cache/supercache/site.example/about/index-https.html wp-content/cache/supercache/www.site.example/about/index.html
        wp-content/cache/page_enhanced/site.example/_index.html wp-content/cache/page_enhanced/site.example/about/_index.html
        wp-content/cache/page_enhanced/site.example/about/_index_ssl.html wp-content/cache/page_enhanced/www.site.example/about/_index.html
        wp-content/cache/wp-rocket/site.example/index.html wp-content/cache/wp-rocket/site.example/about/index.html
        wp-content/cache/wp-rocket/site.example/about/index-https.html wp-content/cache/cache-enabler/site.example/about/http-index.html
        wp-content/cache/cache-enabler/site.example/about/https-index.html wp-content/cache/cache-enabler/site.example/http-index.html
        wp-content/cache/all/index.html wp-content/cache/all/about/index.html cache/html/about.html cache/html/news/index.html""",
    "plain": """index.html start.html about.html contact.php page.php news/index.html news/first.html img/a.jpg img/a.png img/ css/style.css css/style.css.gz
        files/doc.pdf files/data.sql files/open/free.txt files/notes.txt de/index.html de/info.html fr/index.html en/index.html errors/403.html
        errors/404.html maintenance.html robots.txt .well-known/acme-challenge/token shop/index.html shop.html old-shop/index.html
        script.cgi index.shtml private/x.html coming-soon.html sorry.html .git/config team/index.php empty/ now.html day.html web.config""",
    "two": """index.php index.html about.html main/index.php main/page.html app/index.php app/page.html blog/index.php blog/wp-login.php blog/wp-config.php
        blog/wp-content/uploads/a.jpg blog/wp-content/uploads/a.php blog/wp-admin/index.php blog/wp-admin/admin-ajax.php shop/index.html
        shop/index.php shop/item.php shop/css/shop.css news/index.html news/today.html other/index.html other/index.php other/about.html img/a.jpg
        errors/403.html errors/404.html robots.txt start.html .well-known/acme-challenge/token""",
    "spa": """index.html 404.html robots.txt assets/app.js assets/app.css about/index.html docs/guide/index.html docs/api.html img/a.png
        manifest.json favicon.ico .well-known/acme-challenge/token""",
    "framework": """composer.json .env artisan app/Kernel.php config/app.php vendor/autoload.php storage/logs/app.log public/index.php public/robots.txt
        public/favicon.ico public/css/app.css public/js/app.js public/img/a.png public/storage/file.pdf public/admin/index.html webroot/index.php
        webroot/css/app.css webroot/img/a.png webroot/robots.txt .well-known/acme-challenge/token README.md""",
    "app": """index.php index.html app.php api.php page.php profile.php thumb.php doku.php router.php remote.php config.php common.php install.php cron.php
        robots.txt favicon.ico composer.json README LICENSE.txt css/app.css css/app.css.gz js/app.js js/app.12.js img/a.png img/p/1/1.jpg
        files/a.pdf files/evil.php files/index.html system/core.php system/lib/x.txt system/index.html cache/x.php cache/index.html core/install.php
        core/lib/x.php site/config.php site/assets/a.css site/templates/home.php data/x.txt lib/exe/fetch.php lib/tpl/x.css w/index.php
        w/thumb.php w/README typo3/index.php typo3/x.css uploads/evil.php uploads/a.jpg content/home/page.txt content/home/a.jpg themes/own/pages/home.htm
        themes/own/assets/a.css errors/404.php pub/media/a.jpg admin/index.php web.config .git/config .well-known/acme-challenge/token
        webservice/dispatcher.php""",
}
ASKED = {
    "press": """about about/ about// wp-admin wp-admin/ feed/ 2024/05/hello/ index.php/about ?p=12 ?author=1 ?s=a%20b wp-login.php?key=abc
        wp-login.php?action=logout secret-door wp-json/wp/v2/users ?rest_route=/wp/v2/users wp-content/uploads/ wp-content/plugins/one/
        files/2024/a.jpg two/wp-admin two/wp-login.php two/about/ category/a.b/ sale thanks product/12 page.asp old-shop forum guestbook.php news/2019/a
        ?page=about index.php?page=about a?lang=de search?s=x .git/config wp-content/cache/ wp-includes/ cgi-bin/x etc/passwd x.bak x.sql
        wp-content/uploads/2024/05/photo.png news index.php?a=1 wp-content/uploads/2024/ wp-content//uploads/a.pdf //about/ eval(x) ?x=<script>
        xmlrpc.php/ wp-config.php.bak .htaccess about/index.php""",
    "plain": """about about/ about.htm contact contact/ news news/ news/first news/first/ news/first.php img/ img/missing.jpg css/style.123.css files/ files files/open/ files/none.sql
        de de/ de/info de/nothing fr en/ ?lang=de ?page=about index.html?x=1 index index.php script.cgi private/ private/x.html team team/ team/index.php
        old%20page.html old%20one%20two.html now.html empty empty/ new/about.html new news/2019/x old-shop old-shop/ sale feed forum forum/x guestbook.php
        product/7 page.asp cgi-bin/a .git/config .env shop shop/ jobs thanks about.html/ about.html/x NEWS/ %61bout.html news//first.html ./about.html
        welcome contact.php?a=b page?id=1 %2e%2e/x a%2fb errors/ about.html? img/a.gif""",
    "two": """about main main/ main/page.html page.html app app/ app/page.html blog blog/ blog/about blog/about/ blog/2024/05/hello/ blog/wp-admin blog/wp-admin/
        blog/wp-admin/admin-ajax.php blog/feed/ blog?p=1 blog/?p=1 shop shop/ shop/item.php shop/item shop/css/ item.php css/shop.css news news/ news/today.html today.html
        other other/ other/about.html other/nothing about.html?x=1 ?p=1 index.php/a shop/nothing news/nothing blog/wp-content/ blog/wp-config.php nothing/at/all.html""",
    "spa": """about about/ about/team docs docs/ docs/guide docs/guide/ docs/api docs/api.html assets/ assets/none.js login users/12/edit ?tab=1 index.html?x=1
        assets/app.js?v=2 img img/none.png about/index.html deep/er/and/deeper/ .env %20 a.b/c favicon.png""",
    "framework": """public public/ public/index.php public/index.php/users users users/ users/12/edit users/12/edit/ css/app.css css/none.css index.php index.php/
        index.php/users index.php/users/1?a=b app/Kernel.php config/ storage/ storage/file.pdf public/storage/ storage/logs/app.log admin admin/ public/admin js/ public/js
        webroot webroot/ webroot/index.php img/a.png ?page=2 users?page=2 .env%20 a%20b favicon.ico?x vendor/ public/users public/users/ robots.txt/ .git/HEAD""",
    "app": """wiki wiki/Main_Page w w/ w/README Main_Page ?title=x api api/ api/products 1-home_default/x.jpg c/2-medium/x.jpg admin admin/ admin/index.php/x
        profile/anna u/anna u/anna/ download/a.zip go/other.example/x img/10x20/a.png shop shop/ shop/12 shop/12/ shop/12/red.html v1/users v2 v2/users?x=1 system/
        system/core.php system system/nothing files/ files/evil.php files/none.pdf css/app.9.css css/none.css sitemap.xml core/install.php install.php cron.php
        typo3 typo3/ typo3/module/x _media/a.png _detail/a _export/pdf/a index.php/a/b index.php?a=b index.php/ remote/x .well-known/carddav
        .well-known/nodeinfo ocm-provider/ config/x templates/x console uploads/evil.php uploads/a.jpg content/home/page.txt content/home/a.jpg site/config.php
        themes/own/pages/home.htm themes/own/assets/a.css vendor/x bootstrap/app.php site/templates/home.php data/ data/x.txt cache/x.php a%20b a.b/c
        user/login?destination=x node/1 robots.txt?x README .git/config ?q=a ?x=GLOBALS%5B x.tpl.php sites/x.inc favicon.ico.php system/storage/a.log pub/media/b.jpg""",
}  # fmt: skip
EVERYWHERE = "index.php index.html nowhere no/such/page/ no-such.php robots.txt .well-known/acme-challenge/token .well-known/none".split()
ODD = """a%3fb about%3Fx=1 a%0ab a%0db %2e%2e/ about%20 a+b a%25b a%26b?c=d caf%C3%A9 %zz a%2fb a%5cb a%23b a;b=c about.html%3f x?a=%0a x?a=%20b
    page?a=b?c=d news/first%2ehtml css/style.css?v=1.2 ?%3Cscript%3E ?a=http://x.example/ index.php/a%20b a%20b/c%3fd""".split()


def blocks() -> dict[str, str]:
    """The pieces of control files by their names."""
    written = (SITES / "blocks.txt").read_text().partition("\n++ ")[2]
    return {name: text for name, _, text in (block.partition("\n") for block in written.split("\n++ "))}


def whole_sites() -> Iterator[World]:
    """Each account with its files, its hosts, and what is asked: every file, and what visitors and robots try."""
    pieces = blocks()
    for number, line in enumerate(
        line for line in (SITES / "accounts.txt").read_text().splitlines() if line[:1] not in ("", "#")
    ):
        name, tree, rest = re.split(r"\s+", line, maxsplit=2)
        world = World(number)
        world.name = name
        world.tree = {f"www/{path}": "" for path in TREES[tree].split()}
        hosts = {"site.example": "www", "www.site.example": "www"}
        for part in rest.split(";"):
            place, _, named = (text.strip() for text in part.partition(":"))
            if place == "hosts":
                hosts |= dict(host.split("=") for host in named.split())
                continue
            path = ".htaccess" if place == "." else f"{place}/.htaccess"
            world.tree[path] = "\n".join(pieces[piece] for piece in named.split())
        # names of its own, as all accounts lie on one server
        world.hosts = hosts
        paths = dict.fromkeys(["", *TREES[tree].split(), *ASKED[tree].split(), *EVERYWHERE, *ODD])
        every = list(world.hosts)
        world.asked = [(every[n % len(every)] if n else every[0], path) for n, path in enumerate(paths)]
        world.asked += [(host, path) for host in every for path in ("", "about", "nowhere/x", "index.php")]
        yield world
