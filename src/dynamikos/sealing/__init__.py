"""Secrets at rest and on their way: sealed with a key outside the database, boxed for one
generator, compared by fingerprint.

Never stores anything. Sealing is AES-256-GCM bound to what it is about; a box is X25519,
HKDF-SHA256 and ChaCha20-Poly1305 to the public key that a generator made for its own life.
"""

import hashlib
import hmac
import json
import os
from pathlib import Path

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives.asymmetric.x25519 import X25519PrivateKey, X25519PublicKey
from cryptography.hazmat.primitives.ciphers.aead import AESGCM, ChaCha20Poly1305
from cryptography.hazmat.primitives.hashes import SHA256
from cryptography.hazmat.primitives.kdf.hkdf import HKDF

from dynamikos.core.errors import DynamikosError

__all__ = ["Sealer", "SealingError", "X25519PrivateKey", "box", "new_key", "public_of", "unbox"]


class SealingError(DynamikosError):
    """A sealed text can't be opened: another key, or damaged."""


class Sealer:
    """Seals and opens with the key in `file` (made with mode 0600 when it is not there)."""

    def __init__(self, file: Path) -> None:
        try:
            descriptor = os.open(file, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
        except FileExistsError:
            pass
        else:
            with os.fdopen(descriptor, "wb") as made:
                made.write(os.urandom(32))
        self._key = hashlib.sha256(file.read_bytes()).digest()

    def seal(self, text: str, about: str) -> bytes:
        """`text` sealed; it opens only as being about the same."""
        nonce = os.urandom(12)
        return nonce + AESGCM(self._key).encrypt(nonce, text.encode(), about.encode())

    def open(self, sealed: bytes, about: str) -> str:
        """Raises SealingError."""
        try:
            return AESGCM(self._key).decrypt(sealed[:12], sealed[12:], about.encode()).decode()
        except (InvalidTag, ValueError) as problem:
            raise SealingError(
                "A secret can't be opened: it was sealed with another key. Type it again in "
                "Settings."
            ) from problem

    def fingerprint(self, text: str) -> str:
        """Equal for equal texts, and of no use without the key."""
        return hmac.new(self._key, b"fingerprint\0" + text.encode(), "sha256").hexdigest()[:12]


def new_key() -> X25519PrivateKey:
    return X25519PrivateKey.generate()


def public_of(key: X25519PrivateKey) -> bytes:
    return key.public_key().public_bytes_raw()


def _shared(secret: bytes, ephemeral: bytes, public: bytes) -> bytes:
    return HKDF(
        algorithm=SHA256(), length=32, salt=None, info=b"dynamikos delivery\0" + ephemeral + public
    ).derive(secret)


def box(values: dict[str, str], public: bytes) -> bytes:
    """`values` for whoever has the private key of `public`, and nobody else."""
    own = X25519PrivateKey.generate()
    ephemeral = own.public_key().public_bytes_raw()
    key = _shared(own.exchange(X25519PublicKey.from_public_bytes(public)), ephemeral, public)
    # the key is used once
    return ephemeral + ChaCha20Poly1305(key).encrypt(bytes(12), json.dumps(values).encode(), None)


def unbox(boxed: bytes, key: X25519PrivateKey) -> dict[str, str]:
    """Raises SealingError for what was boxed for somebody else."""
    if not boxed:
        return {}
    ephemeral, rest = boxed[:32], boxed[32:]
    try:
        shared = _shared(
            key.exchange(X25519PublicKey.from_public_bytes(ephemeral)), ephemeral, public_of(key)
        )
        opened: dict[str, str] = json.loads(ChaCha20Poly1305(shared).decrypt(bytes(12), rest, None))
    except (InvalidTag, ValueError) as problem:
        raise SealingError(
            "The secrets of this run were not delivered to this generator; start the run again."
        ) from problem
    return opened
