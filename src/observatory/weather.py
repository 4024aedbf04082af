"""Kinds of request, the resources they pass, and what each weather changes."""

from dataclasses import dataclass

# name -> (servers, mean service in seconds); means are at least 20 ms
CLEAR: dict[str, tuple[int, float]] = {
    "web": (12, 0.020),
    "pool": (16, 0.025),
    "search": (6, 0.030),
    "disk": (4, 0.020),
}
SMALL_POOL = {**CLEAR, "pool": (6, 0.025)}
# what each weather's resources are; the rest of it is in Trouble
WEATHER: dict[str, dict[str, tuple[int, float]]] = {
    "clear": CLEAR,
    "small-pool": SMALL_POOL,
    "slow-search": CLEAR,
    "gust": CLEAR,
    "leak": CLEAR,
    "brittle": CLEAR,
    "masquerade": SMALL_POOL,
}


@dataclass(frozen=True, slots=True)
class Trouble:
    """What goes wrong in a weather, by seconds since it began. `stall`: (resource, from, to) that
    nothing is begun in; `grows`: (resource, by how much of its mean for each search made);
    `leak_bytes` of heap that every request leaves; `breaks`: a search term that is answered 500
    while more than `above` searches are under way; `decoy`: a measure that merely follows the load.
    """

    stall: tuple[str, float, float] | None = None
    grows: tuple[str, float] | None = None
    leak_bytes: int = 0
    breaks: str = ""
    above: int = 2
    decoy: bool = False


GUST_AT_S, GUST_S = 45.0, 6.0
HEAP_BYTES, PAUSE_EVERY, PAUSE_S_A_GB = (
    180_000_000,
    400,
    0.6,
)  # a pause comes after so many requests, the longer the heap
TROUBLE: dict[str, Trouble] = {
    "gust": Trouble(stall=("disk", GUST_AT_S, GUST_AT_S + GUST_S)),
    "slow-search": Trouble(grows=("search", 0.002)),
    "leak": Trouble(leak_bytes=400_000),
    "brittle": Trouble(breaks="cygnus"),
    "masquerade": Trouble(decoy=True),
}
# kind of request -> the resources it passes, in order
ROUTES: dict[str, tuple[str, ...]] = {
    "front": ("web",),
    "sign-in page": ("web",),
    "sign-in": ("web", "pool"),
    "sky": ("web", "pool"),
    "objects search": ("search",),
    "object": ("web", "disk"),
    "slots": ("web", "pool"),
    "hold": ("pool",),
    "booking": ("web", "pool"),
    "cancel": ("web", "pool"),
    "account": ("web",),
    "postbox": ("web",),
    "code": ("web", "pool"),
    "roof": ("web", "pool"),
    "approve": ("pool",),
    "report": ("web", "disk", "pool"),
    "sign-out": ("web",),
    "still": (),
}
