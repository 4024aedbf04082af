"""The stand-in as a plain ASGI application: routing, sessions, and the log that /truth shows."""

import asyncio
import base64
import collections
import hashlib
import itertools
import json
import math
import os
import random
import re
import time
from collections.abc import Awaitable, Callable
from dataclasses import dataclass
from http.cookies import SimpleCookie
from typing import Any
from urllib.parse import parse_qs, unquote

from observatory import pages
from observatory.law import closed_law, erlang_c, saturation_per_s
from observatory.people import objects, password_of
from observatory.resources import Resource, Visit, Works
from observatory.sink import Sink
from observatory.timer import Timer
from observatory.weather import (
    HEAP_BYTES,
    PAUSE_EVERY,
    PAUSE_S_A_GB,
    ROUTES,
    TROUBLE,
    WEATHER,
    Trouble,
)

Reply = tuple[int, list[tuple[str, str]], bytes]
KEPT_LOG = 400_000
LEAD_S = 0.0003  # waking, answering and the socket take about this long
SLOTS_A_NIGHT, MINUTES_A_SLOT, MINUTES_GIVEN = 40, 15, 6000
NIGHT_S = (
    60.0  # after which a slot that was held is over, so that one run after the other can be made
)
HTML, JSON = ("content-type", "text/html; charset=utf-8"), ("content-type", "application/json")
OBJECTS = objects()
BY_SLUG = {each["slug"]: each for each in OBJECTS}
STILL = {
    "/style.css": (pages.STYLE.encode(), "text/css"),
    "/script.js": (pages.SCRIPT.encode(), "text/javascript"),
    "/ping": (b"pong", "text/plain"),
}
STILL.update({f"/pictures/{n}.svg": (pages.picture(n), "image/svg+xml") for n in range(1, 7)})


@dataclass(frozen=True, slots=True)
class Asked:
    """A request."""

    method: str
    path: str
    query: dict[str, str]
    headers: dict[str, str]
    body: bytes

    @property
    def form(self) -> dict[str, str]:
        return _firsts(self.body.decode("utf-8", "replace"), keep_blank_values=True)


def _firsts(text: str, *, keep_blank_values: bool = False) -> dict[str, str]:
    found = parse_qs(text, keep_blank_values=keep_blank_values)
    return {key: values[0] for key, values in found.items()}


def _json(known: Any) -> Reply:
    return 200, [JSON], json.dumps(known).encode()


class Observatory:
    """One stand-in. `weather` names the resources; `seed` fixes every drawn service and token."""

    def __init__(self, weather: str = "clear", seed: int = 7) -> None:
        self.seed = seed
        self.sink = Sink()
        self.sessions: dict[str, dict[str, Any]] = {}
        self.holds: dict[tuple[str, str], str] = {}
        self.passing: collections.deque[tuple[float, str, str, int]] = (
            collections.deque()
        )  # when, who, night, slot
        self.booked: dict[str, tuple[str, str, int]] = {}  # reference → e-mail, night, slot
        self.approved: set[str] = set()  # references
        self.roof_keys: dict[str, None] = {}
        self.slots: dict[str, set[int]] = {}
        self.balance: dict[str, int] = {}
        self.mails: dict[
            str, dict[str, tuple[float, str]]
        ] = {}  # e-mail → reference → when it arrives, the code
        low, high = os.environ.get("OBSERVATORY_MAIL_S", "1 8").split()
        self.mail_s = (float(low), float(high))
        self.log: collections.deque[dict[str, Any]] = collections.deque(maxlen=KEPT_LOG)
        self.counts: collections.Counter[str] = collections.Counter()
        self._serial = itertools.count(1)
        self._timer: Timer | None = None
        self.begun = time.perf_counter()
        self.works = Works({}, seed)
        self.set_weather(weather)

    def set_weather(self, weather: str) -> None:
        """Requests under way are answered at once: what they waited for is gone with the old
        weather.
        """
        self.works.advance(math.inf)
        self.weather = weather
        self.works = Works(WEATHER[weather], self.seed)
        self.begun = time.perf_counter()
        self.trouble, self.searches, self.searching = TROUBLE.get(weather, Trouble()), 0, 0
        self.heap, self.requests, self.pauses, self.pause_s = HEAP_BYTES, 0, 0, 0.0
        self.cached, self.asked = 0, 0
        if self.trouble.stall is not None:
            self.stall(*self.trouble.stall)

    def stall(self, resource: str, from_s: float, to_s: float) -> None:
        """A resource that begins nothing between two seconds since the weather came."""
        self.works.resources[resource].stalled = self.begun + from_s, self.begun + to_s

    def _suffers(self, kind: str, arrival: float) -> None:
        """What the weather does with each request."""
        self.requests += 1
        if kind == "objects search":
            self.searches += 1
            if self.trouble.grows is not None:
                name, share = self.trouble.grows
                self.works.slower[name] = 1 + share * self.searches
        self.heap += self.trouble.leak_bytes
        if (
            self.trouble.leak_bytes and self.requests % PAUSE_EVERY == 0
        ):  # everything stands still, the longer the heap
            pause = PAUSE_S_A_GB * self.heap / 1e9
            self.pauses, self.pause_s = self.pauses + 1, self.pause_s + pause
            for each in self.works.resources.values():
                each.stalled = arrival, arrival + pause

    def token(self, purpose: str) -> str:
        return hashlib.sha256(
            f"{self.seed}:{purpose}:{next(self._serial)}:{self.begun}".encode()
        ).hexdigest()[:20]

    # ASGI -----------------------------------------------------------------------------------------

    async def __call__(
        self,
        scope: dict[str, Any],
        receive: Callable[[], Awaitable[Any]],
        send: Callable[[Any], Awaitable[None]],
    ) -> None:
        if scope["type"] == "lifespan":
            while True:
                event = await receive()
                await send({"type": event["type"] + ".complete"})
                if event["type"] == "lifespan.shutdown":
                    return
        if scope["type"] != "http":
            return
        arrival = time.perf_counter()
        headers = {
            key.decode("latin-1"): value.decode("latin-1") for key, value in scope["headers"]
        }
        body = b""
        if scope["method"] in ("POST", "PUT"):
            while True:
                event = await receive()
                body += event.get("body", b"")
                if not event.get("more_body"):
                    break
        path, query = scope["path"], _firsts(scope["query_string"].decode())
        asked = Asked(scope["method"], path, query, headers, body)
        if path in ("/truth", "/metrics") or path.startswith(("/truth/", "/weather/")):
            await self._answer(send, self._inside(asked))
            return
        if path in ("/sink", "/sink/log"):
            await self._answer(send, self._sunk(asked.method, path, headers, body))
            return
        kind, reply = self._route(asked)
        self._suffers(kind, arrival)
        if kind == "objects search":
            self.searching += 1
            if (
                query.get("q", "").lower() == self.trouble.breaks != ""
                and self.searching > self.trouble.above
            ):
                reply = self._wrong(500, "the search index is being rebuilt")
        visit = await self._pass(kind, arrival)
        self.searching -= kind == "objects search"
        self.counts[kind] += 1
        trace = headers.get("traceparent", "").split("-")
        record = {
            "id": trace[2] if len(trace) == 4 else "",
            "kind": kind,
            "method": scope["method"],
            "path": path,
            "status": reply[0],
            "arrival_s": arrival - self.begun,
            "departure_s": visit.departure - self.begun,
            "services": visit.services,
        }
        self.log.append(record)
        await self._answer(send, reply)
        record["sent_s"] = time.perf_counter() - self.begun

    async def _answer(self, send: Callable[[Any], Awaitable[None]], reply: Reply) -> None:
        status, headers, body = reply
        raw = [(key.encode(), value.encode()) for key, value in headers]
        raw.append((b"content-length", str(len(body)).encode()))
        await send({"type": "http.response.start", "status": status, "headers": raw})
        await send({"type": "http.response.body", "body": body})

    # resources ------------------------------------------------------------------------------------

    async def _pass(self, kind: str, arrival: float) -> Visit:
        route = ROUTES[kind]
        if not route:
            return Visit(arrival, (), lambda visit: None, departure=arrival)
        future: asyncio.Future[Visit] = asyncio.get_running_loop().create_future()
        self.works.enter(
            arrival, route, lambda visit: None if future.done() else future.set_result(visit)
        )
        self._advance()
        return await future

    def _advance(self) -> None:
        if self._timer is None:
            self._timer = Timer(self._advance)
        self.works.advance(time.perf_counter(), LEAD_S)
        following = self.works.next_instant(LEAD_S)
        if following is not None:
            self._timer.set(following)

    # what it answers ------------------------------------------------------------------------------

    def _session(self, headers: dict[str, str]) -> tuple[str, dict[str, Any]]:
        cookies = SimpleCookie(headers.get("cookie", ""))
        name = cookies["visit"].value if "visit" in cookies else ""
        return name, self.sessions.get(name, {})

    def _route(self, asked: "Asked") -> tuple[str, Reply]:
        """(kind, answer): what the table of routes says; a kind is what the weather is about."""
        if asked.path in STILL:
            return "still", self._still(asked.path, asked.headers)
        for method, path, kind, answer in APPLICATION:
            found = path.fullmatch(asked.path) if method == asked.method else None
            if found is not None:
                return kind, answer(self, asked, *found.groups())
        return "still", self._wrong(404, "nothing here")

    def _wrong(self, status: int, why: str) -> Reply:
        return status, [JSON], json.dumps({"error": why}).encode()

    def _still(self, path: str, headers: dict[str, str]) -> Reply:
        content, kind = STILL[path]
        self.asked += 1
        tag = f'"{hashlib.md5(content).hexdigest()[:12]}"'
        common = [("etag", tag), ("cache-control", "public, max-age=300"), ("content-type", kind)]
        self.cached += (known := headers.get("if-none-match") == tag)
        return (304, common, b"") if known else (200, common, content)

    def _sign_in_page(self, message: str = "") -> Reply:
        visit, key = self.token("visit"), self.token("form")
        self.sessions[visit] = {"form_key": key}
        if len(self.sessions) > 100_000:
            self.sessions.pop(next(iter(self.sessions)))
        return (
            200 if not message else 401,
            [HTML, ("set-cookie", f"visit={visit}; Path=/; HttpOnly")],
            pages.sign_in(key, message),
        )

    def _sign_in(self, form: dict[str, str], headers: dict[str, str]) -> Reply:
        _, session = self._session(headers)
        email = form.get("email", "")
        if not session or form.get("form_key") != session.get("form_key"):
            return self._wrong(403, "the form key is missing or old")
        if form.get("password") != password_of(email):
            return self._sign_in_page("E-mail or password is wrong")
        visit, key = self.token("visit"), self.token("key")
        self.sessions[visit] = {
            "email": email,
            "name": email.split("@")[0],
            "form_key": session["form_key"],
            "key": key,
        }
        welcome = self.token("welcome")
        self.sessions[visit]["welcome"] = welcome
        return (
            303,
            [
                ("location", f"/sky?constellation=lyra&page=1&welcome={welcome}"),
                ("set-cookie", f"visit={visit}; Path=/; HttpOnly"),
                ("set-cookie", f"desk={key}; Path=/"),
            ],
            b"",
        )

    def _sky(self, query: dict[str, str], headers: dict[str, str]) -> Reply:
        _, session = self._session(headers)
        constellation = query.get("constellation", "lyra")
        page = query.get("page", "1")
        number = int(page) if page.isdigit() else 1
        found = [each for each in OBJECTS if each["constellation"] == constellation]
        token = session["sky_token"] = self.token("sky")
        shown = found[(number - 1) * 12 % max(1, len(found)) :][:12]
        return (
            200,
            [HTML],
            pages.sky(constellation, number, shown, token, session.get("name", "visitor")),
        )

    def _search(self, query: dict[str, str], headers: dict[str, str]) -> Reply:
        _, session = self._session(headers)
        if headers.get("x-sky-token", session.get("sky_token")) != session.get("sky_token"):
            return self._wrong(403, "X-Sky-Token is not the one of the sky page")
        wanted = query.get("q", "").lower()
        found = [
            each for each in OBJECTS if wanted in each["slug"] or wanted in each["constellation"]
        ][:20]
        return 200, [JSON], json.dumps({"q": wanted, "objects": found}).encode()

    def _object(self, slug: str, headers: dict[str, str]) -> Reply:
        each = BY_SLUG.get(slug)
        if each is None:
            return self._wrong(404, "no such object")
        _, session = self._session(headers)
        session["sight"] = sight = "sight/" + self.token("sight")[:14]
        return 200, [HTML], pages.thing(each, base64.b64encode(sight.encode()).decode())

    def _slots(self, query: dict[str, str], headers: dict[str, str]) -> Reply:
        _, session = self._session(headers)
        if "email" not in session:
            return self._wrong(401, "sign in first")
        if query.get("sight", session.get("sight")) != session.get("sight"):
            return self._wrong(403, "sight is not the one of the object's page")
        night = query.get("night", "")
        if not re.fullmatch(r"\d\d\.\d\d\.\d{4}", night):
            return self._wrong(400, "night must be dd.mm.yyyy")
        free = sorted(self.slots.setdefault(night, set(range(1, SLOTS_A_NIGHT + 1))))
        token = session["hold_token"] = "t-" + self.token("hold")
        slots = [
            {
                "id": f"{night.replace('.', '')}-{n:02d}",
                "begins": f"{18 + n // 4 % 12}:{n % 4 * 15:02d}",
            }
            for n in free
        ]
        return (
            200,
            [JSON],
            json.dumps({"night": night, "slots": slots, "hold_token": token}).encode(),
        )

    def _hold(self, body: bytes, headers: dict[str, str]) -> Reply:
        _, session = self._session(headers)
        try:
            asked = json.loads(body)
            slot, token = str(asked["slot"]), str(asked["hold_token"])
        except (ValueError, KeyError, TypeError):
            return self._wrong(400, "expected slot and hold_token as JSON")
        if "email" not in session:
            return self._wrong(401, "sign in first")
        if headers.get("x-form-key") != session.get("key"):
            return self._wrong(403, "X-Form-Key is not the desk cookie's value")
        if token != session.pop("hold_token", None):
            return self._wrong(409, "the hold token is not this session's, or used up")
        digits, _, number = slot.partition("-")
        night = f"{digits[:2]}.{digits[2:4]}.{digits[4:]}"
        free = self.slots.get(night, set())
        self._nights_pass(time.monotonic())
        if (
            (session["email"], night) in self.holds
            or not number.isdigit()
            or int(number) not in free
        ):
            return self._wrong(409, "the slot is taken, or you hold one that night already")
        free.discard(int(number))
        hold = f"h-{next(self._serial):06d}"
        self.holds[(session["email"], night)] = hold
        self.passing.append((time.monotonic(), session["email"], night, int(number)))
        session.update(hold=hold, night=night, slot=number)
        return 201, [JSON], json.dumps({"hold": {"id": hold, "night": night}}).encode()

    def _nights_pass(self, now: float) -> None:
        """Slots that are over can be held again."""
        while self.passing and now - self.passing[0][0] > NIGHT_S:
            _, email, night, number = self.passing.popleft()
            self.holds.pop((email, night), None)
            self.slots.setdefault(night, set()).add(number)

    def _book(self, form: dict[str, str], headers: dict[str, str]) -> Reply:
        _, session = self._session(headers)
        if form.get("form_key") != session.get("form_key") or "email" not in session:
            return self._wrong(403, "the form key is missing or old")
        if form.get("hold") != session.get("hold"):
            return self._wrong(409, "this hold is not yours")
        left = self.balance.get(session["email"], MINUTES_GIVEN) - MINUTES_A_SLOT
        self.balance[session["email"]] = left
        session.pop("hold")
        reference = f"BF-{next(self._serial):06d}"
        self.booked[reference] = (session["email"], session["night"], int(session["slot"]))
        drawn = random.Random(self.token("mail"))
        arrives = time.monotonic() + drawn.uniform(*self.mail_s)
        self.mails.setdefault(session["email"], {})[reference] = (
            arrives,
            f"{drawn.randrange(10**6):06d}",
        )
        return 200, [HTML], pages.booked(reference, left, session["night"])

    def _account(self, headers: dict[str, str]) -> Reply:
        _, session = self._session(headers)
        if "email" not in session:
            return self._wrong(401, "sign in first")
        left = self.balance.get(session["email"], MINUTES_GIVEN)
        return 200, [JSON], json.dumps({"email": session["email"], "minutes": left}).encode()

    def _postbox(self, email: str) -> Reply:
        """The newest mail that has arrived: codes are mailed some seconds after the booking."""
        now = time.monotonic()
        here = [
            (arrives, ref, code)
            for ref, (arrives, code) in self.mails.get(email, {}).items()
            if arrives <= now
        ]
        _, reference, code = max(here, default=(0.0, "", ""))
        return 200, [HTML], pages.postbox(email, reference, code)

    def _code(self, reference: str, form: dict[str, str]) -> Reply:
        """The mailed code makes a booking firm; its mail is then put away."""
        email = self.booked.get(reference, ("", "", 0))[0]
        if not email or form.get("code") != self.mails.get(email, {}).get(reference, (0, ""))[1]:
            return self._wrong(409, "this is not the code that was mailed for this booking")
        del self.mails[email][reference]
        return 200, [HTML], pages.firm(reference)

    def _roof(self) -> Reply:
        """For staff: what is booked and not approved yet, with a key that is good once."""
        key = self.token("roof")
        self.roof_keys[key] = None
        if len(self.roof_keys) > 10_000:
            self.roof_keys.pop(next(iter(self.roof_keys)))
        waiting = [reference for reference in self.booked if reference not in self.approved]
        return 200, [HTML], pages.roof(key, waiting[:50])

    def _approve(self, form: dict[str, str]) -> Reply:
        """All that is booked may begin."""
        if self.roof_keys.pop(form.get("roof_key", ""), self) is self:
            return self._wrong(403, "the roof key is missing or was used")
        self.approved.update(self.booked)
        return 200, [HTML], pages.approved(len(self.booked))

    def _cancel(self, reference: str, form: dict[str, str]) -> Reply:
        """Gives a booked quarter-hour back: whoever knows its reference and its observer's address
        may.
        """
        email, night, slot = self.booked.get(reference, ("", "", 0))
        if not email or form.get("email") != email:
            return self._wrong(404, "no such booking of this observer")
        del self.booked[reference]
        self.holds.pop((email, night), None)
        self.slots.setdefault(night, set()).add(slot)
        self.balance[email] = self.balance.get(email, MINUTES_GIVEN) + MINUTES_A_SLOT
        return 200, [JSON], json.dumps({"cancelled": reference}).encode()

    def _sign_out(self, headers: dict[str, str]) -> Reply:
        name, _ = self._session(headers)
        self.sessions.pop(name, None)
        return 303, [("location", "/"), ("set-cookie", "visit=; Path=/; Max-Age=0")], b""

    # for tests and the curious --------------------------------------------------------------------

    def _sunk(self, method: str, path: str, headers: dict[str, str], body: bytes) -> Reply:
        """What is told to /sink is kept and shown; it is none of the observatory's exchanges."""
        if method == "POST":
            self.sink.take(headers, body)
            return 204, [], b""
        return (
            (200, [JSON], self.sink.as_json())
            if path == "/sink/log"
            else (200, [HTML], self.sink.as_page())
        )

    def _inside(self, asked: "Asked") -> Reply:
        answer = INSIDE.get(asked.path)
        if answer is not None:
            return answer(self, asked)
        if asked.path.startswith("/weather/"):
            return self._new_weather(asked)
        return self._truth()

    def _openmetrics(self) -> Reply:
        kind = "application/openmetrics-text; version=1.0.0; charset=utf-8"
        return 200, [("content-type", kind)], self._metrics().encode()

    def _new_weather(self, asked: "Asked") -> Reply:
        """POST /weather/NAME; with a stall of its own: POST /weather/gust?at=20&for=6."""
        name, query = asked.path.removeprefix("/weather/"), asked.query
        if asked.method != "POST" or name not in WEATHER:
            return self._wrong(404, f"POST /weather/NAME with one of {', '.join(WEATHER)}")
        self.set_weather(name)
        if "at" in query and self.trouble.stall is not None:
            resource, begin, end = self.trouble.stall
            at = float(query["at"])
            self.stall(resource, at, at + float(query.get("for", end - begin)))
        return _json({"weather": name})

    def _logged(self, asked: "Asked") -> Reply:
        since = float(asked.query.get("since", "0"))
        return _json([record for record in self.log if record["arrival_s"] >= since])

    def _closed(self, asked: "Asked") -> Reply:
        """?users=20&think=1&front=1&sky=2: kinds with their number in a round."""
        query, stations = asked.query, WEATHER[self.weather]
        visits: collections.Counter[str] = collections.Counter()
        for kind, times in query.items():
            for resource in ROUTES.get(kind, ()):
                visits[resource] += float(times)  # type: ignore[assignment]
        rate, first = saturation_per_s(stations, visits)
        law = closed_law(
            stations, visits, float(query.get("think", "0")), int(query.get("users", "1"))
        )
        return _json({"law": law, "saturation_per_s": rate, "saturates_first": first})

    def _open(self, asked: "Asked") -> Reply:
        per_s, stations = float(asked.query.get("per_s", "1")), WEATHER[self.weather]
        times = {
            kind: sum(erlang_c(per_s, *stations[name]) for name in route)
            for kind, route in ROUTES.items()
        }
        return _json(
            {kind: amount if amount != math.inf else None for kind, amount in times.items()}
        )

    def _truth(self) -> Reply:
        resources = {
            name: {"servers": servers, "mean_s": mean, "saturates_at_per_s": servers / mean}
            for name, (servers, mean) in WEATHER[self.weather].items()
        }
        return _json(
            {
                "weather": self.weather,
                "resources": resources,
                "routes": ROUTES,
                "requests": dict(self.counts),
                "logged": len(self.log),
            }
        )

    def _metrics(self) -> str:
        """OpenMetrics 1.0. Beside what tells of the resources stand measures that have nothing to
        do with them.
        """
        now = time.perf_counter()
        every = self.works.resources.values()
        seen = {each.name: each.last_second(now) for each in every}
        lines: list[str] = []

        def family(name: str, kind: str, unit: str, what: str, values: dict[str, float]) -> None:
            name = f"observatory_{name}"
            lines.extend(
                (
                    f"# TYPE {name} {kind}",
                    *([f"# UNIT {name} {unit}"] if unit else []),
                    f"# HELP {name} {what}",
                )
            )
            suffix = "_total" if kind == "counter" else ""
            lines.extend(f"{name}{suffix}{labels} {value:.9g}" for labels, value in values.items())

        def by_resource(value: Callable[[Resource], float]) -> dict[str, float]:
            return {f'{{resource="{each.name}"}}': value(each) for each in every}

        family(
            "busy_seconds",
            "counter",
            "seconds",
            "Server-seconds of work done",
            by_resource(lambda r: r.busy_s),
        )
        family(
            "wait_seconds",
            "counter",
            "seconds",
            "Seconds waited for a server",
            by_resource(lambda r: r.waited_s),
        )
        family("visits", "counter", "", "Visits of each resource", by_resource(lambda r: r.count))
        family("in_use", "gauge", "", "Servers busy now", by_resource(lambda r: r.in_use(now)))
        family(
            "queue",
            "gauge",
            "",
            "Waiting for a server now",
            by_resource(lambda r: r.queue_length(now)),
        )
        family("servers", "gauge", "", "Servers there are", by_resource(lambda r: r.servers))
        said = "Share of server time busy in the last second"
        family("utilization_ratio", "gauge", "ratio", said, by_resource(lambda r: seen[r.name][0]))
        said = "Mean wait of those begun in the last second"
        family("waiting_seconds", "gauge", "seconds", said, by_resource(lambda r: seen[r.name][1]))
        flushing = [
            each.stalled for each in every if each.stalled is not None and each.name == "disk"
        ]
        is_flushing = any(begin <= now < end for begin, end in flushing)
        family(
            "disk_flushing",
            "gauge",
            "",
            "Whether the disk writes everything out",
            {"": float(is_flushing)},
        )
        family(
            "heap_bytes",
            "gauge",
            "bytes",
            "Memory of the application",
            {"": self.heap + 4e5 * (self.requests % 40)},
        )
        family("pauses", "counter", "", "Pauses of the garbage collector", {"": self.pauses})
        family("pause_seconds", "counter", "seconds", "Seconds of those pauses", {"": self.pause_s})
        family("cache_hit_ratio", "gauge", "ratio", "Share of still files that had not changed",
               {"": self.cached / self.asked if self.asked else 0.0})  # fmt: skip
        wander = random.Random(int(now) // 5)
        family(
            "dome_celsius",
            "gauge",
            "celsius",
            "Under the dome",
            {"": 8 + wander.uniform(-0.4, 0.4)},
        )
        family(
            "wind_metres_per_second",
            "gauge",
            "",
            "Outside",
            {"": 5 + 3 * math.sin(now / 37) + wander.uniform(-1, 1)},
        )
        family("moths", "counter", "", "Seen on the camera", {"": int(now * 3)})
        if self.trouble.decoy:
            served = sum(each.by_second.get(int(now) - 1, (0.0, 0.0, 0.0))[2] for each in every)
            family(
                "lamp_watts",
                "gauge",
                "watts",
                "Lamps of the visitors' centre",
                {"": 40 + 2 * served},
            )
        return "\n".join([*lines, "# EOF", ""])


# (method, path, kind, answer): what stands in brackets in a path is handed to the answer. The first
# that fits is taken.
APPLICATION: tuple[tuple[str, re.Pattern[str], str, Callable[..., Reply]], ...] = tuple(
    (method, re.compile(path), kind, answer)
    for method, path, kind, answer in (
        (
            "GET",
            "/",
            "front",
            lambda app, asked: (200, [HTML, ("cache-control", "no-cache")], pages.front()),
        ),
        ("GET", "/sign-in", "sign-in page", lambda app, asked: app._sign_in_page()),
        ("GET", "/sky", "sky", lambda app, asked: app._sky(asked.query, asked.headers)),
        (
            "GET",
            "/api/objects",
            "objects search",
            lambda app, asked: app._search(asked.query, asked.headers),
        ),
        ("GET", "/api/slots", "slots", lambda app, asked: app._slots(asked.query, asked.headers)),
        ("GET", "/api/account", "account", lambda app, asked: app._account(asked.headers)),
        ("GET", "/roof", "roof", lambda app, asked: app._roof()),
        (
            "GET",
            "/report",
            "report",
            lambda app, asked: (200, [HTML], pages.report(app.booked, app.approved)),
        ),
        ("GET", "/postbox/(.*)", "postbox", lambda app, asked, email: app._postbox(unquote(email))),
        (
            "GET",
            "/objects/(.*)",
            "object",
            lambda app, asked, slug: app._object(slug, asked.headers),
        ),
        ("POST", "/sign-in", "sign-in", lambda app, asked: app._sign_in(asked.form, asked.headers)),
        ("POST", "/api/holds", "hold", lambda app, asked: app._hold(asked.body, asked.headers)),
        ("POST", "/bookings", "booking", lambda app, asked: app._book(asked.form, asked.headers)),
        (
            "POST",
            "/bookings/([^/]*).*/code",
            "code",
            lambda app, asked, number: app._code(number, asked.form),
        ),
        (
            "POST",
            "/bookings/([^/]*).*/cancel",
            "cancel",
            lambda app, asked, number: app._cancel(number, asked.form),
        ),
        ("POST", "/roof/approve", "approve", lambda app, asked: app._approve(asked.form)),
        ("POST", "/sign-out", "sign-out", lambda app, asked: app._sign_out(asked.headers)),
    )
)
INSIDE: dict[str, Callable[[Observatory, Asked], Reply]] = {
    "/metrics": lambda app, asked: app._openmetrics(),
    "/truth/log": Observatory._logged,
    "/truth/closed": Observatory._closed,
    "/truth/open": Observatory._open,
}
