"""The curve of a plan with thirty stretches in the browser: frames while a handle is dragged, and
how long until what follows stands beside it, from the key and from the request that asks for it;
beside a curve of three stretches.
"""

import math
import statistics
from typing import Any

from bench.browsing import signed_in
from bench.database import own_database
from bench.ladder import Result

START = """() => {
  window.taken = []; window.going = true; let last = 0;
  const frame = (now) => {
    if (last) window.taken.push(now - last);
    last = now;
    if (window.going) requestAnimationFrame(frame);
  };
  requestAnimationFrame(frame);
}"""
STOP = "() => { window.going = false; return window.taken; }"


def dragged(page: Any) -> list[float]:
    """Frames, in ms, while a handle is dragged by the mouse."""
    knob = page.locator(".knob[data-stretch='2']").first
    knob.scroll_into_view_if_needed()
    box = knob.bounding_box()
    x, y = box["x"] + 5, box["y"] + 5
    page.mouse.move(x, y)
    page.mouse.down()
    page.evaluate(START)
    for turn in range(120):
        page.mouse.move(x + 6 * math.sin(turn / 9), y + 40 * math.cos(turn / 7))
        page.wait_for_timeout(8)
    frames: list[float] = page.evaluate(STOP)
    page.mouse.move(x, y)
    page.mouse.up()
    page.wait_for_timeout(1500)
    return frames


FOLLOWS = """async () => {
  const keys = [], asked = [];
  for (let i = 0; i < 9; i++) {
    const field = document.querySelector("[name=think_factor]");
    let sent = 0;
    document.addEventListener("htmx:before:request", () => (sent = performance.now()), { once: true });
    const before = document.querySelector("#plan-follows").innerHTML;
    field.focus(); field.value = String(1 + i / 10);
    const begun = performance.now();
    field.dispatchEvent(new Event("input", { bubbles: true }));
    field.dispatchEvent(new Event("change", { bubbles: true }));
    while (document.querySelector("#plan-follows").innerHTML === before && performance.now() - begun < 5000) {
      await new Promise((go) => setTimeout(go, 1));
    }
    keys.push(performance.now() - begun);
    if (sent) asked.push(performance.now() - sent);
    await new Promise((go) => setTimeout(go, 300));
  }
  return [keys, asked];
}"""  # noqa: E501


def run() -> list[Result]:
    with own_database():
        return _measure()


def _plan(sample: Any, stretches: int) -> Any:
    from msgspec.structs import replace

    from dynamikos.core.profiles import Stretch
    from dynamikos.web.plans import actions, queries

    core = queries.content(sample.plan)
    profile = tuple(
        Stretch(stretch="climb", to=10 + 7 * (n % 5), seconds=60)
        if n % 2 == 0
        else Stretch(stretch="hold", seconds=60)
        for n in range(stretches)
    )
    crowd = replace(core.everybody()[0], profile=profile)
    return actions.add(
        sample.member, replace(core, name=f"Curve {stretches}").with_crowds((crowd,))
    )


def _measure() -> list[Result]:
    from tests.web.support import Sample

    sample = Sample()
    made = {count: _plan(sample, count) for count in (3, 30)}
    found: dict[int, tuple[float, float, float, float]] = {}
    with signed_in() as (page, base):
        for count, plan in made.items():
            page.goto(base + sample.address(f"load/{plan.pk}"))
            page.wait_for_load_state("networkidle")
            keys, asked = page.evaluate(FOLLOWS)
            dragged(page)  # once to warm up
            frames = dragged(page)
            found[count] = (
                statistics.median(frames),
                statistics.quantiles(frames, n=20)[-1],
                statistics.median(keys),
                statistics.median(asked) if asked else float("nan"),
            )
    long, short = found[30], found[3]
    return [
        (
            "30 stretches: a frame while a handle is dragged, median",
            long[0],
            "ms",
            "≤ 17",
            long[0] <= 17,
        ),
        ("30 stretches: the same, p95", long[1], "ms", "≤ 20", long[1] <= 20),
        ("3 stretches: the same, median", short[0], "ms", "", True),
        (
            "30 stretches: what follows, from the request on, median",
            long[3],
            "ms",
            "≤ 100",
            long[3] <= 100,
        ),
        ("30 stretches: what follows, from the key on, median", long[2], "ms", "", True),
        ("3 stretches: from the request on", short[3], "ms", "", True),
    ]
