"""The connections of one virtual user, as a browser keeps them."""

from dynamikos.engine.ports import Link, Network, Origin, Sessions

IDLE_S = 300.0  # unused for so long, a connection is given up
PARALLEL = 6  # that a page's resources are fetched over, of each origin


class Pool:
    """Owns all links of a user: those at rest by origin, those in use as well. `sessions` are TLS sessions to
    resume.
    """

    __slots__ = ("_all", "_resting", "network", "sessions")

    def __init__(self, network: Network) -> None:
        self.network = network
        self._resting: dict[Origin, list[Link]] = {}
        self._all: set[Link] = set()
        self.sessions: Sessions = {}

    def take(self, origin: Origin, now: float) -> Link | None:
        """A link at rest that stands open, the one used last; None when there is none."""
        resting = self._resting.get(origin)
        while resting:
            link = resting.pop()
            if link.alive and now - link.idle_since < IDLE_S:
                return link
            link.close()
            self._all.discard(link)
        return None

    async def open(self, origin: Origin) -> Link:
        """A new link. Raises Failure."""
        link = await self.network.open(origin, self.sessions)
        self._all.add(link)
        return link

    def give(self, origin: Origin, link: Link, now: float) -> None:
        """A link that is not in use any more."""
        if link.alive:
            link.idle_since = now
            try:
                self._resting[origin].append(link)
            except KeyError:
                self._resting[origin] = [link]
        else:
            self._all.discard(link)

    def forget(self, link: Link) -> None:
        self._all.discard(link)

    def close(self) -> None:
        """All of them, in use or not: nobody hears of what was under way."""
        for link in list(self._all):
            link.close()
        self._all.clear()
        self._resting.clear()
