"""Certificates in PEM (RFC 7468): the names that each covers, and until when it holds (RFC 5280)."""

from __future__ import annotations

from collections.abc import Sequence

from kettlepost.core.errors import InputError
from kettlepost.core.exchange.observed import ImportRemark, Opener, Reading, SeenCertificate, SourceSpot, host_in
from kettlepost.core.messages import say

_MARK = b"-----BEGIN CERTIFICATE-----"


def is_it(raw: bytes) -> bool:
    """Whether a file holds a certificate; a private key beside it is not looked at."""
    return _MARK in raw


def read(files: Sequence[tuple[str, bytes]], _opener: Opener, _root: str = "") -> Reading:
    """The first certificate of each file: those behind it are of the authorities that vouch for it."""
    try:
        from cryptography import x509
    except ImportError:
        raise InputError("certificates want a package more: pip install 'kettlepost[certificates]'") from None
    found = Reading(files=[name for name, _ in files])
    for name, raw in files:
        begin = raw.find(_MARK)
        spot = SourceSpot(name, raw[: max(begin, 0)].count(b"\n") + 1)
        try:
            certificate = x509.load_pem_x509_certificate(raw[begin:])
            names = _names(certificate)
            until = certificate.not_valid_after_utc.date().isoformat()
        except (ValueError, x509.DuplicateExtension) as error:
            why = str(error).splitlines()[0] if str(error) else say("import/no-certificate")
            found.remarks.append(
                ImportRemark(spot, say("import/certificate-unreadable", why=why), say("import/nothing-entered"))
            )
            continue
        covers = tuple(host for one in names if (host := host_in(one, spot, found.remarks)) is not None)
        if covers:
            found.certificates.append(SeenCertificate(covers, until, spot))
        else:
            found.remarks.append(
                ImportRemark(spot, say("import/certificate-without-host"), say("import/nothing-entered"))
            )
    return found


def _names(certificate: object) -> list[str]:
    """The hosts of a certificate, by RFC 6125: its alternative names, else its common name."""
    from cryptography import x509
    from cryptography.x509.oid import NameOID

    assert isinstance(certificate, x509.Certificate)  # noqa: S101 (for the type checker)
    try:
        more = certificate.extensions.get_extension_for_class(x509.SubjectAlternativeName)
        return list(dict.fromkeys(more.value.get_values_for_type(x509.DNSName)))
    except x509.ExtensionNotFound:
        return [str(one.value) for one in certificate.subject.get_attributes_for_oid(NameOID.COMMON_NAME)]
