"""A web server's directives as they are written, and what a request gets by them."""

from kettlepost.core.webserver.access import Visitor
from kettlepost.core.webserver.control import Control, compile_control
from kettlepost.core.webserver.directives import Directive, Node, Section, read_directives
from kettlepost.core.webserver.fast_path import plain_reply
from kettlepost.core.webserver.protection_lines import carried_lines, denies_by_path, is_protecting
from kettlepost.core.webserver.requests import reply_to
from kettlepost.core.webserver.rewriter import WHERE_IT_LIES
from kettlepost.core.webserver.server import SERVERS, UnknownSetting, WebServer
from kettlepost.core.webserver.settings import SourceLine, index_names
from kettlepost.core.webserver.state import SAFE, HeldAt, Reply, ServerRequest, Site, Stands
from kettlepost.core.webserver.stored_lines import kept_lines, text_of
from kettlepost.core.webserver.vocabulary import NOT_KEPT

__all__ = [
    "NOT_KEPT",
    "SAFE",
    "SERVERS",
    "WHERE_IT_LIES",
    "Control",
    "Directive",
    "HeldAt",
    "Node",
    "Reply",
    "Section",
    "ServerRequest",
    "Site",
    "SourceLine",
    "Stands",
    "UnknownSetting",
    "Visitor",
    "WebServer",
    "carried_lines",
    "compile_control",
    "denies_by_path",
    "index_names",
    "is_protecting",
    "kept_lines",
    "plain_reply",
    "read_directives",
    "reply_to",
    "text_of",
]
