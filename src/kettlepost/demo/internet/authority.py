"""The authority of the demo's small internet, which signs certificates for its hosts."""

from __future__ import annotations

import datetime
from collections.abc import Sequence
from pathlib import Path

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID


class Authority:
    """Issues certificates; its own lies in `authority.pem` of a folder."""

    def __init__(self, folder: Path):
        self._folder = folder
        self._key = ec.generate_private_key(ec.SECP256R1())
        self._name = x509.Name([x509.NameAttribute(NameOID.ORGANIZATION_NAME, "Fernhollow Test Authority")])
        today = datetime.datetime.now(tz=datetime.UTC)
        own = _builder(self._name, self._name, self._key, today - datetime.timedelta(30), today + _YEARS)
        own = own.add_extension(x509.BasicConstraints(ca=True, path_length=None), critical=True)
        identifier = x509.SubjectKeyIdentifier.from_public_key(self._key.public_key())
        own = own.add_extension(identifier, critical=False).add_extension(_USAGE, critical=True)
        self.path = folder / "authority.pem"
        self.path.write_bytes(own.sign(self._key, hashes.SHA256()).public_bytes(serialization.Encoding.PEM))
        self._identifier = x509.AuthorityKeyIdentifier.from_issuer_subject_key_identifier(identifier)

    def issue(self, names: Sequence[str], days: int = 60) -> Path:
        """A certificate for some names with its key, in one file; it ends in so many days, or has ended."""
        key = ec.generate_private_key(ec.SECP256R1())
        today = datetime.datetime.now(tz=datetime.UTC)
        subject = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, names[0])])
        end = today + datetime.timedelta(days)
        made = _builder(subject, self._name, key, end - datetime.timedelta(90), end)
        made = made.add_extension(x509.SubjectAlternativeName([x509.DNSName(name) for name in names]), critical=False)
        made = made.add_extension(self._identifier, critical=False)
        path = self._folder / f"{names[0].replace('*', '_')}.pem"
        with path.open("wb") as file:
            file.write(made.sign(self._key, hashes.SHA256()).public_bytes(serialization.Encoding.PEM))
            file.write(
                key.private_bytes(
                    serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
                )
            )
        path.chmod(0o600)
        return path


_YEARS = datetime.timedelta(365)
_USAGE = x509.KeyUsage(True, False, False, False, False, True, True, False, False)


def _builder(
    subject: x509.Name, issuer: x509.Name, key: ec.EllipticCurvePrivateKey,
    begins: datetime.datetime, ends: datetime.datetime,
) -> x509.CertificateBuilder:  # fmt: skip
    return (
        x509.CertificateBuilder().subject_name(subject).issuer_name(issuer).public_key(key.public_key())
        .serial_number(x509.random_serial_number()).not_valid_before(begins).not_valid_after(ends)
    )  # fmt: skip
