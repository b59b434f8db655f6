"""TLS for a service that is reached from elsewhere: a certificate that was given, or one that it makes for itself.

A certificate of our own making is signed by nobody: who connects has to compare its fingerprint, which the start prints.
"""

from __future__ import annotations

import datetime
import hashlib
import ipaddress
import socket
import ssl
from pathlib import Path
from typing import Any

from cheroot.ssl.builtin import BuiltinSSLAdapter
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID

from cairnwind.core.values.errors import CallerError
from cairnwind.folder import Folder, put
from cairnwind.remotes.address import EVERYWHERE

DAYS = 825
RENEW_DAYS = 30
"""Left of it, when it is made anew at a start."""


class Adapter(BuiltinSSLAdapter):
    """The server's TLS. The handshake is left to the worker that reads first: a silent caller holds nobody else up."""

    def wrap(self, sock: Any) -> tuple[Any, dict[str, Any]]:
        """The socket with TLS, and what is to be known of it."""
        wrapped = self.context.wrap_socket(sock, server_side=True, do_handshake_on_connect=False)
        return wrapped, {"wsgi.url_scheme": "https", "HTTPS": "on"}


def adapter(certificate: Path, key: Path) -> Adapter:
    """From two files. Raises `CallerError` (``certificate``)."""
    try:
        made = Adapter(str(certificate), str(key))
        made.context.minimum_version = ssl.TLSVersion.TLSv1_2
    except (OSError, ssl.SSLError) as error:
        raise CallerError(
            "certificate", f"The certificate {certificate} cannot be used: {error.strerror or error}.", "Give a PEM file, and its key."
        ) from None  # fmt: skip
    return made


def own(folder: Folder, site: str, names: tuple[str, ...], host: str) -> tuple[Path, Path]:
    """A certificate of our own making in the state folder; made anew when it ends soon, or does not name what it should."""
    certificate, key = folder.path / "certificate.pem", folder.path / "certificate-key.pem"
    wanted = sorted(
        {
            "localhost",
            "127.0.0.1",
            "::1",
            socket.gethostname(),
            f"{socket.gethostname()}.local",
            *names,
            *([host] if host not in EVERYWHERE else []),
        }
    )
    now = datetime.datetime.now(datetime.UTC)
    if certificate.exists() and key.exists():
        old = x509.load_pem_x509_certificate(certificate.read_bytes())
        told = old.extensions.get_extension_for_class(x509.SubjectAlternativeName).value
        known = sorted({str(each.value) for each in told})
        if known == wanted and old.not_valid_after_utc > now + datetime.timedelta(days=RENEW_DAYS):
            return certificate, key
    private = ec.generate_private_key(ec.SECP256R1())
    name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, site[:64])])
    made = (
        x509.CertificateBuilder()
        .subject_name(name)
        .issuer_name(name)
        .public_key(private.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(now - datetime.timedelta(days=1))
        .not_valid_after(now + datetime.timedelta(days=DAYS))
        .add_extension(x509.SubjectAlternativeName([_name(each) for each in wanted]), critical=False)
        .add_extension(x509.BasicConstraints(ca=True, path_length=0), critical=True)
        .sign(private, hashes.SHA256())
    )
    put(key, private.private_bytes(
        serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
    ))  # fmt: skip
    put(certificate, made.public_bytes(serialization.Encoding.PEM))
    return certificate, key


def fingerprint(certificate: Path) -> str:
    """SHA-256 of a certificate, in pairs of hexadecimal digits."""
    der = ssl.PEM_cert_to_DER_cert(certificate.read_text("ascii"))
    return ":".join(f"{byte:02X}" for byte in hashlib.sha256(der).digest())


def _name(text: str) -> x509.GeneralName:
    try:
        return x509.IPAddress(ipaddress.ip_address(text))
    except ValueError:
        return x509.DNSName(text)
