"""Addresses and networks as they are written where it is told who gets in (mod_authz_host)."""

from __future__ import annotations

import ipaddress
import re


def is_within(ip: str, written: str) -> bool:
    """Whether an address lies in what is written: an address, the beginning of one, a network with mask or length."""
    try:
        address = ipaddress.ip_address(ip)
        if "/" in written:
            return address in ipaddress.ip_network(written, strict=False)
        written = written.rstrip(".")
        if written.count(".") < 3 and ":" not in written:
            beginning = written.rstrip(".").split(".")
            return ip.split(".")[: len(beginning)] == beginning
        return address == ipaddress.ip_address(written)
    except ValueError:
        return False


def is_network(written: str) -> bool:
    """Whether a server takes something that begins with a digit for an address, the beginning of one, or a network.

    What holds a comma or a letter it takes for a host's name.
    """
    if not re.fullmatch(r"[0-9.]+(?:/[0-9.]*|/.*)?", written):
        return ":" not in written or is_address_or_network(written)
    return is_address_or_network(written)


def is_address_or_network(written: str) -> bool:
    """Whether a server takes something for an address, the beginning of one, or a network."""
    place, slash, mask = written.partition("/")
    try:
        if slash:
            ipaddress.ip_network(written, strict=False)
            return bool(mask)
        if ":" in place:
            ipaddress.ip_address(place)
            return True
    except ValueError:
        return False
    parts = place.rstrip(".").split(".")
    return len(parts) <= 4 and all(part.isdigit() and int(part) < 256 for part in parts)
