"""The connections of one virtual user, as a browser keeps them."""

from dynamikos.engine.http.shaping import Line
from dynamikos.engine.ports import Channel, Link, Network, Origin, Sessions

IDLE_S = 300.0  # unused for so long, a connection is given up


class OriginPool:
    """What a user has for one origin: its links at rest, its channels, and the Cookie header while
    that is the same for every path and the jar stays as it is.
    """

    __slots__ = ("channels", "cookie", "origin", "resting")

    def __init__(self, origin: Origin) -> None:
        self.origin = origin
        self.resting: list[Link] = []
        self.channels: list[Channel] = []  # those that carry many exchanges at once
        self.cookie: str | None = None


class Pool:
    """Owns all links of a user: those at rest by origin, those in use as well. `sessions` are TLS
    sessions to resume.
    """

    __slots__ = ("_all", "_line", "desks", "last", "network", "sessions")

    def __init__(self, network: Network, line: Line | None = None) -> None:
        self.network, self._line = network, line
        self.desks: dict[Origin, OriginPool] = {}
        self.last = OriginPool(("", "", 0))  # most requests go where the last one went
        self._all: set[Link] = set()
        self.sessions: Sessions = {}

    def desk(self, origin: Origin) -> OriginPool:
        """That of `origin`, which is the last one then."""
        found = self.desks.get(origin)
        if found is None:
            found = self.desks[origin] = OriginPool(origin)
        self.last = found
        return found

    def take(self, desk: OriginPool, now: float) -> Link | None:
        """A link at rest that stands open, the one used last, or a free slot of a channel; None
        when there is none.
        """
        resting = desk.resting
        while resting:
            link = resting.pop()
            if link.alive and now - link.idle_since < IDLE_S:
                return link
            link.close()
            self._all.discard(link)
        return self._slot(desk) if desk.channels else None

    def _slot(self, desk: OriginPool) -> Link | None:
        """A free one of a channel; those that are closed are given up."""
        desk.channels = [each for each in desk.channels if each.alive]
        for channel in desk.channels:
            link = channel.slot()
            if link is not None:
                self._all.add(link)
                return link
        return None

    async def open(self, origin: Origin) -> Link:
        """A new link, or the first slot of a new channel. Raises Failure."""
        link = await self.network.open(origin, self.sessions, self._line)
        self._all.add(link)
        if link.channel is not None:
            self.desk(origin).channels.append(link.channel)
        return link

    def every(self) -> list[Link]:
        """In use or not."""
        return list(self._all)

    def forget(self, link: Link) -> None:
        """A link that is closed."""
        self._all.discard(link)

    def close(self) -> None:
        """All of them, in use or not: nobody hears of what was under way."""
        for link in list(self._all):
            link.close()
        self._all.clear()
        for desk in self.desks.values():
            desk.resting.clear()
            for channel in desk.channels:
                channel.close()
            desk.channels.clear()
