"""Digest authentication (RFC 7616, and RFC 2617 without `qop`): the answer to a server's
challenge.
"""

import hashlib
from collections.abc import Callable
from dataclasses import dataclass
from urllib.request import parse_http_list, parse_keqv_list

HASHES: dict[str, Callable[[bytes], str]] = {
    "md5": lambda data: hashlib.md5(data, usedforsecurity=False).hexdigest(),
    "sha-256": lambda data: hashlib.sha256(data).hexdigest(),
    "sha-512-256": lambda data: hashlib.new("sha512_256", data).hexdigest(),
}


@dataclass(slots=True)
class Challenge:
    """What a server asked for; `count` is how often its nonce was used."""

    realm: str
    nonce: str
    algorithm: str = "MD5"
    qop: str = ""
    opaque: str | None = None
    userhash: bool = False
    count: int = 0

    def answer(self, method: str, target: str, user: str, password: str, cnonce: str) -> str:
        """The value of an Authorization header for a request of `method` for `target`."""
        is_session = self.algorithm.lower().endswith("-sess")
        h = HASHES[self.algorithm.lower().removesuffix("-sess")]

        def hashed(*parts: str) -> str:
            return h(":".join(parts).encode())

        self.count += 1
        nc = f"{self.count:08x}"
        secret = hashed(user, self.realm, password)
        if is_session:
            secret = hashed(secret, self.nonce, cnonce)
        asked = hashed(method, target)
        response = (
            hashed(secret, self.nonce, nc, cnonce, self.qop, asked)
            if self.qop
            else hashed(secret, self.nonce, asked)
        )
        who = (
            hashed(user, self.realm)
            if self.userhash
            else user.replace("\\", "\\\\").replace('"', '\\"')
        )
        parts = [
            f'username="{who}"',
            f'realm="{self.realm}"',
            f'nonce="{self.nonce}"',
            f'uri="{target}"',
            f'response="{response}"',
        ]
        parts.append(f"algorithm={self.algorithm}")
        if self.qop:
            parts += [f"qop={self.qop}", f"nc={nc}", f'cnonce="{cnonce}"']
        if self.opaque is not None:
            parts.append(f'opaque="{self.opaque}"')
        if self.userhash:
            parts.append("userhash=true")
        return "Digest " + ", ".join(parts)


def challenge_in(values: list[str]) -> Challenge | None:
    """The strongest Digest challenge in the values of WWW-Authenticate headers that can be
    answered; None when there is none.
    """
    best: Challenge | None = None
    order = ["md5", "md5-sess", "sha-256", "sha-256-sess", "sha-512-256", "sha-512-256-sess"]
    for value in values:
        scheme, _, rest = value.strip().partition(" ")
        if scheme.lower() != "digest":
            continue
        given = {
            name.lower(): text
            for name, text in parse_keqv_list(
                [part for part in parse_http_list(rest) if "=" in part]
            ).items()
        }
        if "nonce" not in given:
            continue
        offered = [each.strip().lower() for each in given.get("qop", "").split(",") if each.strip()]
        algorithm = given.get("algorithm", "MD5")
        if algorithm.lower() not in order or (offered and "auth" not in offered):
            continue
        found = Challenge(
            given.get("realm", ""),
            given["nonce"],
            algorithm,
            "auth" if offered else "",
            given.get("opaque"),
            given.get("userhash", "").lower() == "true",
        )
        if best is None or order.index(algorithm.lower()) > order.index(best.algorithm.lower()):
            best = found
    return best
