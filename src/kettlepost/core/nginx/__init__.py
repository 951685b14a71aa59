"""What a request gets from nginx, by its configuration."""

from kettlepost.core.nginx.contexts import is_carried_out
from kettlepost.core.nginx.request import nginx_reply
from kettlepost.core.nginx.servers import NginxServer, NginxServers, ServerMatch

__all__ = ["NginxServer", "NginxServers", "ServerMatch", "is_carried_out", "nginx_reply"]
