"""The recorder's own certificate authority: made once an installation, 90 days, its key readable by
its owner only.
"""

import base64
import datetime
import hashlib
import ipaddress
import os
import ssl
import tempfile
from pathlib import Path

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import ExtendedKeyUsageOID, NameOID

DAYS = 90


class Authority:
    """Signs a certificate for each host that is decrypted.

    Key and certificate lie in `folder` as authority.key (0600) and authority.pem.
    """

    def __init__(self, folder: Path, now: datetime.datetime) -> None:
        self._now = now
        self._contexts: dict[str, ssl.SSLContext] = {}
        folder.mkdir(parents=True, exist_ok=True)
        self.path = folder / "authority.pem"
        key_path = folder / "authority.key"
        if key_path.exists() and self.path.exists():
            self._certificate = x509.load_pem_x509_certificate(self.path.read_bytes())
            key = serialization.load_pem_private_key(key_path.read_bytes(), None)
            if self._certificate.not_valid_after_utc > now + datetime.timedelta(
                days=1
            ) and isinstance(key, ec.EllipticCurvePrivateKey):
                self._key = key
                return
        self._key = ec.generate_private_key(ec.SECP256R1())
        name = x509.Name(
            [x509.NameAttribute(NameOID.COMMON_NAME, "Dynamikos recorder of this installation")]
        )
        self._certificate = (
            self._begun(name, self._key.public_key())
            .issuer_name(name)
            .add_extension(x509.BasicConstraints(ca=True, path_length=0), critical=True)
            .add_extension(
                x509.KeyUsage(False, False, False, False, False, True, True, False, False),
                critical=True,
            )
            .sign(self._key, hashes.SHA256())
        )
        descriptor = os.open(key_path, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
        with os.fdopen(descriptor, "wb") as file:
            file.write(
                self._key.private_bytes(
                    serialization.Encoding.PEM,
                    serialization.PrivateFormat.PKCS8,
                    serialization.NoEncryption(),
                )
            )
        self.path.write_bytes(self.pem())

    def pem(self) -> bytes:
        """The certificate to be trusted by the browser that records."""
        return self._certificate.public_bytes(serialization.Encoding.PEM)

    def key_hash(self) -> str:
        """SHA-256 of its public key (SubjectPublicKeyInfo), base64: how a browser started for it is
        told to trust it, and nothing else.
        """
        public = self._key.public_key().public_bytes(
            serialization.Encoding.DER, serialization.PublicFormat.SubjectPublicKeyInfo
        )
        return base64.b64encode(hashlib.sha256(public).digest()).decode()

    def _begun(
        self, subject: x509.Name, public: ec.EllipticCurvePublicKey
    ) -> x509.CertificateBuilder:
        return (
            x509.CertificateBuilder()
            .subject_name(subject)
            .public_key(public)
            .serial_number(x509.random_serial_number())
            .not_valid_before(self._now - datetime.timedelta(days=1))
            .not_valid_after(self._now + datetime.timedelta(days=DAYS))
        )

    def context(self, host: str) -> ssl.SSLContext:
        """A server's context for `host`, its certificate made on first use and kept in memory."""
        known = self._contexts.get(host)
        if known is not None:
            return known
        key = ec.generate_private_key(ec.SECP256R1())
        try:
            alternative: x509.GeneralName = x509.IPAddress(ipaddress.ip_address(host))
        except ValueError:
            alternative = x509.DNSName(host)
        certificate = (
            self._begun(
                x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, host[:64])]), key.public_key()
            )
            .issuer_name(self._certificate.subject)
            .add_extension(x509.SubjectAlternativeName([alternative]), critical=False)
            .add_extension(x509.BasicConstraints(ca=False, path_length=None), critical=True)
            .add_extension(x509.ExtendedKeyUsage([ExtendedKeyUsageOID.SERVER_AUTH]), critical=False)
            .sign(self._key, hashes.SHA256())
        )
        made = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        made.set_alpn_protocols(["http/1.1"])
        # the ssl module reads files only
        with tempfile.NamedTemporaryFile(dir=self.path.parent, suffix=".pem") as file:
            os.chmod(file.name, 0o600)
            file.write(
                key.private_bytes(
                    serialization.Encoding.PEM,
                    serialization.PrivateFormat.PKCS8,
                    serialization.NoEncryption(),
                )
            )
            file.write(certificate.public_bytes(serialization.Encoding.PEM) + self.pem())
            file.flush()
            made.load_cert_chain(file.name)
        self._contexts[host] = made
        return made
