"""What people call the columns of their tables, and what they write in them, in several languages."""

from __future__ import annotations

import re
import unicodedata

ROLES: dict[str, str] = {
    "domain": "domain domains domain-name domainname hostname host website site url address web-address webadresse "
    "adresse internetadresse domaine domaines nom-de-domaine nom-domaine site-web dominio dominios sitio web direccion "
    "nombre-de-dominio sito indirizzo nome-dominio dominio-internet domein domeinnaam websites adres domena domeny "
    "strona nazwa-domeny doman domannamn domaene domaenenavn dominiu verkkotunnus",
    "root": "root document-root documentroot docroot folder directory path home-directory webroot ordner verzeichnis "
    "pfad zielordner wurzel stammverzeichnis dossier repertoire chemin racine carpeta directorio ruta raiz cartella "
    "percorso radice map pad hoofdmap katalog folder-www sciezka mapp sokvag pasta caminho diretorio hakemisto mappe",
    "account": "account accounts hosting-account hosting user username benutzer benutzername konto kundenkonto compte "
    "utilisateur cuenta usuario utente gebruiker uzytkownik konto-hostingowe anvandare conta bruger",
    "kind": "kind type typ art domainart genre tipo soort rodzaj slag tyyppi",
    "state": "state status zustand stand statut etat estado stato toestand stan tila",
    "redirect": "redirect redirects redirect-to forward forwards-to forwarding weiterleitung weiterleiten-auf "
    "leitet-auf umleitung redirection redirige-vers redireccion redirige-a reindirizzamento reindirizza-a "
    "doorverwijzing doorsturen przekierowanie omdirigering redirecionamento",
    "of": "of alias-of alias alias-fuer alias-von alias-de alias-di alias-van parent stands-for",
    "application": "application app software cms programm anwendung system logiciel aplicacion applicazione toepassing "
    "aplikacja applikation aplicacao sovellus",
    "client": "client customer owner kunde kundin inhaber auftraggeber cliente propietario proprietario klant eigenaar "
    "klient wlasciciel kund agare asiakas proprietaire",
    "version": "version versie wersja versione versao versio",
    "https": "https ssl tls secure",
    "www": "www",
}  # fmt: skip
"""The words for each column, with hyphens for spaces and without accents."""
KINDS: dict[str, str] = {
    "primary": "primary main hauptdomain hauptdomaene haupt principal principale hoofddomein hoofd glowna podstawowa "
    "huvuddoman domaine-principal dominio-principal dominio-principale main-domain",
    "addon": "addon add-on additional zusatzdomain zusatz weitere supplementaire adicional aggiuntivo extra "
    "dodatkowa domain domaine dominio domein",
    "subdomain": "subdomain sub-domain sub subdomaene sous-domaine subdominio sottodominio subdomein subdomena "
    "poddomena underdoman",
    "alias": "alias parked pointer aliasdomain zweitname",
    "temporary": "temporary temp temporaer temporaire temporal temporaneo tijdelijk tymczasowy",
}  # fmt: skip
STATES: dict[str, str] = {
    "live": "live active aktiv online ok actif active-site activo attivo actief aktywna in-betrieb en-ligne en-linea "
    "in-linea",
    "planned": "planned geplant neu new prevu planifie previsto planificado gepland planowana todo in-arbeit",
    "retired": "retired old alt gekuendigt gone cancelled abgeschaltet inactif inactivo inaktiv resilie baja dismesso "
    "opgezegd nieaktywna offline",
}  # fmt: skip
YES = frozenset("yes y ja j oui si sim tak true 1 x on https ssl aktiv active".split())


def plain(written: str) -> str:
    """A heading as it is looked up: lower case, without accents, signs as hyphens."""
    text = written.strip().lower().replace("ß", "ss").replace("ł", "l").replace("ø", "o").replace("æ", "ae")
    text = "".join(sign for sign in unicodedata.normalize("NFKD", text) if not unicodedata.combining(sign))
    return re.sub(r"[^a-z0-9]+", "-", text).strip("-")


def _by_word(words: dict[str, str]) -> dict[str, str]:
    return {word: role for role, several in words.items() for word in several.split()}


_ROLE, _KIND, _STATE = _by_word(ROLES), _by_word(KINDS), _by_word(STATES)


def role_of(heading: str) -> str | None:
    """The column that a heading names; None where it is none of those that are read."""
    word = plain(heading)
    if word in _ROLE:
        return _ROLE[word]
    parts = word.split("-")
    umlauts = plain(heading.lower().replace("ä", "ae").replace("ö", "oe").replace("ü", "ue"))
    return _ROLE.get(umlauts) or (
        next((_ROLE[part] for part in parts if part in _ROLE), None) if len(parts) < 4 else None
    )


def kind_of(written: str) -> str | None:
    return _choice(written, _KIND)


def state_of(written: str) -> str | None:
    return _choice(written, _STATE)


def _choice(written: str, known: dict[str, str]) -> str | None:
    word = plain(written)
    umlauts = plain(written.lower().replace("ä", "ae").replace("ö", "oe").replace("ü", "ue"))
    if word in known or umlauts in known:
        return known.get(word) or known.get(umlauts)
    parts = [known[part] for part in word.split("-") if part in known]
    return next((part for part in parts if part != "addon"), next(iter(parts), None))  # a domain, and which one
