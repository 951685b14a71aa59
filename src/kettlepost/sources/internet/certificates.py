"""Which certificate a host shows at an address, and why it is not to be trusted (RFC 5280, RFC 8446)."""

from __future__ import annotations

import asyncio
import ssl
import warnings
from contextlib import suppress
from pathlib import Path

from cryptography import x509
from cryptography.x509.oid import NameOID

from kettlepost.core.errors import InputError
from kettlepost.core.names import printable
from kettlepost.core.survey import ProbeTrouble, ServedCertificate
from kettlepost.sources.internet.machines import Machines
from kettlepost.sources.internet.ways import NotPublic, Ways

_MOST_NAMES = 200
_LARGEST = 64 * 1024


class Handshakes:
    """Begins TLS with hosts, and sends nothing."""

    def __init__(self, machines: Machines, seconds: float, trusted: Path | None = None):
        """`trusted` is a file of authorities that are trusted beside those of the system. Raises InputError."""
        self._machines, self._seconds = machines, seconds
        self._strict = ssl.create_default_context()
        self._strict.check_hostname = False  # which names it is for is told apart from whether it holds
        if trusted is not None:
            try:
                self._strict.load_verify_locations(trusted)
            except (OSError, ssl.SSLError):
                raise InputError(f"{printable(str(trusted))}: holds no certificates that can be read") from None
        self.checking = ssl.create_default_context()
        if trusted is not None:
            self.checking.load_verify_locations(trusted)
        self._lenient = lenient_context()
        self._old = lenient_context()
        with suppress(ssl.SSLError), warnings.catch_warnings():
            warnings.simplefilter("ignore", DeprecationWarning)  # that it is old is what is asked
            self._old.set_ciphers("ALL:@SECLEVEL=0")
            self._old.minimum_version = ssl.TLSVersion.TLSv1
            self._old.maximum_version = ssl.TLSVersion.TLSv1_1
        self._oldest: dict[str, asyncio.Task[str]] = {}

    async def certificate(self, host: str, address: str, ways: Ways) -> ServedCertificate:
        """The certificate that a host shows at an address. The caller says when."""
        try:
            place = ways.to(address, 443, host)
        except NotPublic:
            return ServedCertificate(host, address, "", trouble=ProbeTrouble.NOT_PUBLIC)
        wrong, raw, trouble = "", b"", None
        try:
            raw, _ = await self._shake(place, host, self._strict)
        except ssl.SSLCertVerificationError as error:
            wrong = printable(error.verify_message or "not trusted")[:200]
        except ssl.SSLError:
            trouble = ProbeTrouble.NO_TLS
        except TimeoutError:
            trouble = ProbeTrouble.TIMED_OUT
        except (ConnectionResetError, asyncio.IncompleteReadError):
            trouble = ProbeTrouble.CLOSED
        except (OSError, ValueError):
            trouble = ProbeTrouble.CANNOT_CONNECT
        if wrong:
            try:
                raw, _ = await self._shake(place, host, self._lenient)
            except (TimeoutError, OSError, ValueError):
                trouble = ProbeTrouble.CLOSED
        if trouble is not None or not raw or len(raw) > _LARGEST:
            return ServedCertificate(host, address, "", trouble=trouble or ProbeTrouble.NO_TLS)
        return _read(host, address, raw, wrong, await self._oldest_at(address, place, host))

    async def _oldest_at(self, address: str, place: tuple[str, int], host: str) -> str:
        """The oldest protocol that a machine speaks, where it is one that browsers refuse; asked once."""
        if address not in self._oldest:
            self._oldest[address] = asyncio.ensure_future(self._old_protocol(place, host))
        return await self._oldest[address]

    async def _old_protocol(self, place: tuple[str, int], host: str) -> str:
        try:
            _, version = await self._shake(place, host, self._old)
        except (TimeoutError, OSError, ValueError):
            return ""
        return version if version in ("TLSv1", "TLSv1.1") else ""

    async def _shake(self, place: tuple[str, int], host: str, context: ssl.SSLContext) -> tuple[bytes, str]:
        async with self._machines.slot(place[0]), asyncio.timeout(self._seconds):
            _, writer = await asyncio.open_connection(
                *place, ssl=context, server_hostname=host, ssl_handshake_timeout=self._seconds
            )
            try:
                secure: ssl.SSLObject = writer.get_extra_info("ssl_object")
                return secure.getpeercert(binary_form=True) or b"", secure.version() or ""
            finally:
                writer.transport.abort()


def lenient_context() -> ssl.SSLContext:
    """What begins TLS with whatever certificate is shown, to see what a visitor sees behind the warning."""
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
    context.check_hostname = False
    context.verify_mode = ssl.CERT_NONE
    return context


def _read(host: str, address: str, raw: bytes, wrong: str, oldest: str) -> ServedCertificate:
    try:
        found = x509.load_der_x509_certificate(raw)
        names = found.extensions.get_extension_for_class(x509.SubjectAlternativeName).value
        covers = tuple(
            sorted({printable(one.lower()) for one in names.get_values_for_type(x509.DNSName)})[:_MOST_NAMES]
        )
    except x509.ExtensionNotFound:
        covers = ()
    except (ValueError, x509.DuplicateExtension, TypeError):
        return ServedCertificate(host, address, "", wrong=wrong or "cannot be read", oldest=oldest)
    issuer = ""
    with suppress(ValueError):
        attributes = [*found.issuer.get_attributes_for_oid(NameOID.ORGANIZATION_NAME),
                      *found.issuer.get_attributes_for_oid(NameOID.COMMON_NAME)]  # fmt: skip
        issuer = printable(", ".join(str(one.value) for one in attributes))[:200]
    begins, ends = found.not_valid_before_utc.date().isoformat(), found.not_valid_after_utc.date().isoformat()
    return ServedCertificate(host, address, "", covers, issuer, begins, ends, wrong, oldest)
