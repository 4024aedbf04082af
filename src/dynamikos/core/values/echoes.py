"""Whether a text repeats a secret, also where whoever answered has changed it a little.

What is kept of exchanges is masked (`masking`), since the rest of it is wanted. A measure's name
has no rest worth keeping: it is looked at more broadly, in whatever case and backwards too, and is
left out. Somebody who wants to smuggle a secret out can always think of another spelling; this is
against targets that show what they were asked with.
"""

import re
from collections.abc import Iterable

from dynamikos.core.values.masking import SHORTEST_SECRET, Masker

SIGNS = re.compile(r"[\W_]+")
# letters and digits: with fewer, words that stand next to each other would be taken for a secret
SQUEEZED = 8


class Echoes:
    """Finds `secrets` in texts; those of fewer than SHORTEST_SECRET signs can't be found."""

    def __init__(self, secrets: Iterable[str]) -> None:
        found = [each for each in dict.fromkeys(secrets) if len(each) >= SHORTEST_SECRET]
        self._exact = Masker([*found, *(each[::-1] for each in found)])
        folded = [each.casefold() for each in found]
        self._folded = Masker([*folded, *(each[::-1] for each in folded)])
        # names of measures have letters, digits and _ alone: the secret's other signs are lost or
        # changed there
        squeezed = [SIGNS.sub("", each) for each in folded]
        self._squeezed = [
            form for each in squeezed if len(each) >= SQUEEZED for form in (each, each[::-1])
        ]
        self._has_any = bool(found)

    def __contains__(self, text: str) -> bool:
        if not text or not self._has_any:
            return False
        small = text.casefold()
        if self._exact.text(text) != text or self._folded.text(small) != small:
            return True
        letters = SIGNS.sub("", small)
        return any(each in letters for each in self._squeezed)
