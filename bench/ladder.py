"""A ladder of 500 exchanges in the browser: how long until a clicked rung is shown as selected,
until its panel is there, and the frames while it is scrolled; beside a ladder of 10 exchanges in
the same run.
"""

import statistics

from bench.browsing import signed_in
from bench.database import own_database

Result = tuple[str, float, str, str, bool]
SELECT = """async () => {
  const rungs = [...document.querySelectorAll("#ladder a[data-at*='/']")], shown = [], there = [];
  const frame = () => new Promise((go) => requestAnimationFrame(() => go()));
  for (let i = 0; i < 15; i++) {
    const a = rungs[Math.floor((i * 37) % rungs.length)];
    a.scrollIntoView({ block: "center" }); await new Promise((go) => setTimeout(go, 400));
    const before = document.querySelector("#panel").innerHTML, begun = performance.now();
    a.dispatchEvent(new MouseEvent("click", { bubbles: true, cancelable: true, button: 0 }));
    await frame(); await new Promise((go) => setTimeout(go, 0)); // the frame with the mark is painted
    if (a.getAttribute("aria-current") !== "true") throw new Error("not selected");
    shown.push(performance.now() - begun);
    while (document.querySelector("#panel").innerHTML === before && performance.now() - begun < 5000) {
      await new Promise((go) => setTimeout(go, 2));
    }
    there.push(performance.now() - begun);
  }
  return [shown, there];
}"""  # noqa: E501
SCROLL = """async () => {
  let box = document.querySelector("#ladder");
  const scrolls = (el) => el.scrollHeight > el.clientHeight + 50 && /auto|scroll/.test(getComputedStyle(el).overflowY);
  while (box && !scrolls(box)) box = box.parentElement;
  box = box || document.scrollingElement;
  const taken = []; let last = 0;
  box.scrollTop = 0;
  for (let i = 0; i < 90; i++) {
    const now = await new Promise((go) => requestAnimationFrame(go));
    if (last) taken.push(now - last);
    last = now; box.scrollTop += 120;
  }
  return [taken, box.scrollTop];
}"""  # noqa: E501


def journey(count: int):  # type: ignore[no-untyped-def]
    from dynamikos.core.captures import Capture
    from dynamikos.core.journeys import Journey, Request, Sending

    def request(number: int) -> Request:
        captures = (Capture(name=f"v{number}", json="$.id"),) if number % 4 == 0 else ()
        used = (("v", f"{{{{ v{number - number % 4} }}}}"),) if number % 4 else ()
        return Request(
            request=f"r{number}",
            address=f"{{{{ env.observatory }}}}/page/{number}",
            query=used,
            captures=captures,
        )

    steps = tuple(
        Sending(
            step=f"s{n}", name=f"Step {n}", think_s=1, requests=tuple(map(request, range(n, n + 5)))
        )
        for n in range(0, count, 5)
    )
    return Journey(form=1, journey=f"long-{count}", name=f"Long {count}", rounds=steps)


def run() -> list[Result]:
    with own_database():
        return _measure()


def _measure() -> list[Result]:
    from tests.web.support import Sample

    from dynamikos.web.journeys import actions

    sample = Sample()
    made = {count: actions.create(sample.member, journey(count)) for count in (10, 500)}
    found: dict[int, dict[str, float]] = {}
    with signed_in() as (page, base):
        for count in (10, 500):
            page.goto(base + sample.address(f"journeys/{made[count].pk}"))
            page.wait_for_load_state("networkidle")
            page.evaluate(SELECT)  # once to warm up
            shown, there = page.evaluate(SELECT)
            frames, reached = page.evaluate(SCROLL)
            found[count] = {
                "shown": statistics.median(shown),
                "there": statistics.median(there),
                "frame": statistics.median(frames),
                "p95": statistics.quantiles(frames, n=20)[-1],
                "reached": reached,
            }
    long, short = found[500], found[10]
    assert long["reached"] > 5000, "the long ladder was not scrolled"
    return [
        (
            "500 exchanges: click to shown as selected, median",
            long["shown"],
            "ms",
            "≤ 50",
            long["shown"] <= 50,
        ),
        ("10 exchanges: the same", short["shown"], "ms", "", True),
        ("500 exchanges: click to its panel, median", long["there"], "ms", "", True),
        ("10 exchanges: the same", short["there"], "ms", "", True),
        (
            "500 exchanges: a frame while scrolling, median",
            long["frame"],
            "ms",
            "≤ 50",
            long["frame"] <= 50,
        ),
        ("500 exchanges: a frame while scrolling, p95", long["p95"], "ms", "", True),
    ]
