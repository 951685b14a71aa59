"""What of an nginx configuration is kept: the lines that have a say in what answers, and no secret."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator

from kettlepost.core.exchange.nginx_hosts import SECRET_VARIABLE, NginxNode
from kettlepost.core.nginx import is_carried_out
from kettlepost.core.secrets import MASK, masked
from kettlepost.core.webserver import ConfigurationLine, ServerConfiguration

_NO_SAY = re.compile(
    r"(?:access_log|error_log|log_|open_log|gzip|gunzip|brotli|zstd|ssl_|proxy_|fastcgi_|uwsgi_|scgi_|grpc_|memcached_|add_"
    r"|more_|expires|sendfile|tcp_|keepalive_|client_|large_client|connection_pool|request_pool|lingering|output_buffers|postpone"
    r"|read_ahead|reset_timedout|send_|resolver|open_file|server_names_hash|types_hash|variables_hash|map_hash|proxy_headers"
    r"|limit_conn|limit_req|limit_rate|limit_zone|http2|http3|quic|aio|directio|etag|if_modified|chunked|charset|source_charset|override"
    r"|sub_filter|ssi|addition|msie|max_ranges|min_delete|create_full|dav_access|server_tokens|worker_|user$|pid$|pcre_"
    r"|daemon|master_process|env$|thread_pool|load_module|multi_accept|use$|events$|types$|default_type|upstream$|error_log"
    r"|uninitialized_variable_warn|rewrite_log|stream$|mail$|ignore_invalid|underscores_in|real_ip_|set_real_ip|timer_resolution"
    r"|lock_file|debug_|google_|autoindex_|auth_delay|mirror_|subrequest|slice|geoip|accept_mutex|pagespeed"
    r"|modsecurity_rules_file|early_hints|auth_http|early_data|perl_modules|perl_require|status_zone|zone$|server_name_hash|secure_)"
)
"""Directives that decide nothing about which file answers and who gets it, by how their names begin (nginx.org)."""
_SENDING = ("301", "302", "303", "307", "308")
_SECRET_NAME = re.compile(r"(?:token|key|secret|pass|pwd|auth)", re.IGNORECASE)


def kept_nginx(nodes: Iterable[NginxNode]) -> ServerConfiguration:
    """What is kept of a configuration of nginx."""
    nodes, numbers = list(nodes), dict[str, int]()
    is_whole = any(node.name == "http" and node.inner is not None for node in nodes)
    lines = tuple(_kept(nodes, numbers))
    return ServerConfiguration("", "nginx", "", is_whole, tuple(numbers), lines)


def _kept(nodes: Iterable[NginxNode], numbers: dict[str, int]) -> Iterator[ConfigurationLine]:
    for node in nodes:
        if node.name == "fastcgi_param" and node.words[:1] != ["SCRIPT_FILENAME"]:
            continue
        if not is_carried_out(node.name) and _NO_SAY.match(node.name):
            continue
        number = numbers.setdefault(node.spot.file, len(numbers))
        words = tuple(_harmless(node))
        if node.inner is None:
            yield ConfigurationLine(node.name, words, number, node.spot.line)
            continue
        is_map = node.name in ("map", "geo", "split_clients")
        inner = tuple(_entries(node, numbers) if is_map else _kept(node.inner, numbers))
        yield ConfigurationLine(node.name, words, number, node.spot.line, inner)


def _entries(node: NginxNode, numbers: dict[str, int]) -> Iterator[ConfigurationLine]:
    """The lines of a map: of a secret one only that they are there."""
    is_secret = bool(node.words and SECRET_VARIABLE.search(node.words[0]))
    for one in node.inner or ():
        number = numbers.setdefault(one.spot.file, len(numbers))
        name = MASK if is_secret and one.name not in ("default", "hostnames") else one.name
        yield ConfigurationLine(name, tuple(masked(word) for word in one.words), number, one.spot.line)


def _harmless(node: NginxNode) -> list[str]:
    """The words of a line without what could be a secret."""
    if node.name == "if" and node.words and SECRET_VARIABLE.search(node.words[0]) and len(node.words) > 2:
        return [node.words[0], node.words[1], f"{MASK})"]
    if node.name == "set" and len(node.words) == 2 and _SECRET_NAME.search(node.words[0]):
        return [node.words[0], MASK]
    if node.name == "return" and len(node.words) > 1 and node.words[0] not in _SENDING:
        return [node.words[0], MASK]  # a text that is shown
    if node.name == "auth_basic_user_file":
        return [MASK]
    if node.name == "auth_basic":
        return ["off"] if node.words == ["off"] else [word if "$" in word else "password" for word in node.words]
    return [masked(word) for word in node.words]
