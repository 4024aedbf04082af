"""Which exchanges are kept, and masking before one leaves the generator."""

import base64
import json
import random
import sys
from collections.abc import Iterable
from urllib.parse import quote, quote_plus

MASK = "•••••"
PER_KIND, SLOWEST, SAMPLED, BODY_CHARS = 20, 3, 20, 64_000


def masker(secrets: Iterable[str]) -> "Masker":
    return Masker(secrets)


class Masker:
    """Replaces secrets in texts: as they are, percent-encoded, in base64 and in JSON."""

    def __init__(self, secrets: Iterable[str]) -> None:
        forms: set[str] = set()
        for secret in secrets:
            if len(secret) < 3:
                continue
            forms.update((secret, quote(secret, safe=""), quote_plus(secret), json.dumps(secret)[1:-1]))
            forms.add(json.dumps(secret, ensure_ascii=False)[1:-1])
            raw = secret.encode()
            for shift in range(3):  # inside a longer text, its base64 depends on where it begins; only whole groups are certain
                skipped = (3 - shift) % 3
                whole = raw[skipped : skipped + (len(raw) - skipped) // 3 * 3]
                coded = base64.b64encode(whole).decode()
                if len(coded) >= 8:
                    forms.update((coded, coded.replace("+", "-").replace("/", "_")))
            coded = base64.b64encode(raw).decode()
            forms.update((coded, coded.rstrip("="), base64.urlsafe_b64encode(raw).decode()))
        self._forms = sorted(forms, key=len, reverse=True)

    def text(self, text: str) -> str:
        for form in self._forms:
            if form in text:
                text = text.replace(form, MASK)
        return text

    def pairs(self, pairs: Iterable[tuple[str, str]]) -> list[tuple[str, str]]:
        return [(name, self.text(value)) for name, value in pairs]

    def values(self, values: dict[str, str]) -> dict[str, str]:
        return {name: self.text(value) for name, value in values.items()}


class Choice:
    """Says whether an exchange is worth keeping: failing ones by kind, the slowest of each step, a random sample."""

    def __init__(self, seed: random.Random, *, everything: bool = False) -> None:
        self._everything, self._random = everything, seed
        self._kinds: dict[tuple[int, str], int] = {}
        self._slowest: dict[int, list[int]] = {}
        self._sampled = 0
        self.floor: dict[int, int] = {}
        self.until = 0 if everything else self._skip()  # with everything kept, every one is due

    def failed(self, series: int, kind: str) -> str:
        """A reason, or "" when the limit of this kind is reached."""
        if self._everything:
            return f"failed: {kind}"
        seen = self._kinds.get((series, kind), 0)
        self._kinds[(series, kind)] = seen + 1
        return f"failed: {kind}" if seen < PER_KIND else ""

    def sample(self) -> bool:
        """Decided before sending, because the body must be kept then."""
        if self._everything:
            return True
        self.until -= 1
        if self.until > 0:
            return False
        self._sampled += 1
        self.until = self._skip() if self._sampled < SAMPLED else sys.maxsize
        return True

    def _skip(self) -> int:
        """How many to let pass until the next sample: one in a hundred, drawn at once instead of each time."""
        return 1 + int(self._random.expovariate(0.01))

    def slowest(self, series: int, duration_us: int) -> str:
        if duration_us <= self.floor.get(series, -1):  # the hot path looks at `floor` itself before it calls
            return ""
        best = self._slowest.setdefault(series, [])
        if len(best) < SLOWEST or duration_us > best[0]:
            best.append(duration_us)
            best.sort()
            del best[:-SLOWEST]
            if len(best) == SLOWEST:
                self.floor[series] = best[0]
            return "among the slowest"
        return ""
