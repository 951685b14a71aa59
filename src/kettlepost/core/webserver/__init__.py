"""A web server's directives as they are written, and what a request gets by them."""

from kettlepost.core.webserver.access import Visitor
from kettlepost.core.webserver.configuration import (
    LARGEST_CONFIGURATION,
    ConfigurationLine,
    ServerConfiguration,
    decode_configuration,
    encode_configuration,
)
from kettlepost.core.webserver.control import Control, compile_control
from kettlepost.core.webserver.directives import Directive, Node, Section, read_directives
from kettlepost.core.webserver.escaping import apache_path, nginx_argument, nginx_redirect
from kettlepost.core.webserver.fast_path import plain_reply
from kettlepost.core.webserver.mapping import place_of
from kettlepost.core.webserver.patterns import PatternTrouble
from kettlepost.core.webserver.protection_lines import carried_lines, denies_by_path, is_protecting
from kettlepost.core.webserver.requests import reply_to
from kettlepost.core.webserver.rewriter import WHERE_IT_LIES
from kettlepost.core.webserver.server import SERVERS, UnknownSetting, WebServer
from kettlepost.core.webserver.settings import SourceLine, index_names
from kettlepost.core.webserver.state import SAFE, WHICH_ADDRESS, HeldAt, Reply, ServerRequest, Site, Stands
from kettlepost.core.webserver.stored_lines import kept_lines, text_of
from kettlepost.core.webserver.virtual_hosts import ApacheHosts, HostSetup, VirtualHost
from kettlepost.core.webserver.vocabulary import NOT_KEPT
from kettlepost.core.webserver.wildcards import matches_wildcards

__all__ = [
    "LARGEST_CONFIGURATION",
    "NOT_KEPT",
    "SAFE",
    "SERVERS",
    "WHERE_IT_LIES",
    "WHICH_ADDRESS",
    "ApacheHosts",
    "ConfigurationLine",
    "Control",
    "Directive",
    "HeldAt",
    "HostSetup",
    "Node",
    "PatternTrouble",
    "Reply",
    "Section",
    "ServerConfiguration",
    "ServerRequest",
    "Site",
    "SourceLine",
    "Stands",
    "UnknownSetting",
    "VirtualHost",
    "Visitor",
    "WebServer",
    "apache_path",
    "carried_lines",
    "compile_control",
    "decode_configuration",
    "denies_by_path",
    "encode_configuration",
    "index_names",
    "is_protecting",
    "kept_lines",
    "matches_wildcards",
    "nginx_argument",
    "nginx_redirect",
    "place_of",
    "plain_reply",
    "read_directives",
    "reply_to",
    "text_of",
]
