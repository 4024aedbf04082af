"""A realistic step beside the C epoll loop: two values, a header and a form, a JSON capture, a
regex check, cookies; then what an expression, checks and dealt rows add to it. Pinned and
interleaved like bench.engine, against the same nginx.
"""

import statistics
import sys
import time

from bench.beside import C_LOOP, SECONDS, USERS, rates_beside
from bench.engine import Result

STEP = """form: 1
journey: j
name: J
opening:
  - step: o
    name: O
    requests: [{request: o, method: POST, address: "{{ env.base }}/step",
      captures: [{name: slot, json: "$.slots[0].id"}]}]
rounds:
  - step: s
    name: S
    requests:
      - request: r
        method: POST
        address: "{{ env.base }}/step"
        headers: [[X-Slot, "{{ slot }}"]]
        body: {form: [[slot, "{{ slot }}"], [user, "USER"]]}
        captures: [{name: slot, json: "$.slots[0].id"}]
        checks: [CHECKS]
"""
REGEX = '{regex: "t-[0-9]+"}'
MORE = (
    REGEX
    + ', {status: 200}, {json: {path: $.token, equals: "t-77"}}, {contains: slots}, {value: {left: '
    '"{{ slot }}", right:'
    ' "7", compare: "≥"}}'
)
KINDS = {
    "realistic step": (STEP.replace("CHECKS", REGEX).replace("USER", "{{ user.number }}"), False),
    "with an expression": (
        STEP.replace("CHECKS", REGEX).replace("USER", "{{ (round.number + 1) | pad(4) }}"),
        False,
    ),
    "with five checks": (STEP.replace("CHECKS", MORE).replace("USER", "{{ user.number }}"), False),
    "with a dealt row": (STEP.replace("CHECKS", REGEX).replace("USER", "{{ rows.name }}"), True),
}


def child(kind: str, port: int) -> None:
    """64 users without think time; prints exchanges and processor seconds of the whole process,
    reports included.
    """
    import uvloop

    from dynamikos.core.frozen import DataPile
    from dynamikos.core.journeys import parse_journey
    from dynamikos.core.plans import Plan, parse_target
    from dynamikos.core.profiles import Stretch
    from dynamikos.core.reports import encode
    from dynamikos.engine.clock import RealClock
    from dynamikos.engine.network import RealNetwork
    from dynamikos.engine.runner import Shard, run
    from dynamikos.engine.testing import ListSink, frozen_of_one

    text, deals = KINDS[kind]
    base = f"http://127.0.0.1:{port}"
    plan = Plan(
        form=2,
        plan="p",
        name="P",
        journey="j",
        environment="e",
        grace_s=1,
        profile=(
            Stretch(stretch="climb", to=USERS, seconds=0),
            Stretch(stretch="hold", seconds=SECONDS),
        ),
    )
    rows = [[f"name {at}"] for at in range(10_000)]
    data = (DataPile(key="rows", columns=("name",), rows=len(rows)),) if deals else ()
    frozen = frozen_of_one(
        plan,
        parse_journey(text),
        values={"env.base": base},
        agreed=(parse_target(base),),
        data=data,
    )

    async def program() -> None:
        clock, network, sink = RealClock(), RealNetwork(frozen.agreed), ListSink(encode)
        used = time.process_time()
        await run(
            Shard(number=0, count=1, frozen=frozen, rows={"rows": rows}, secrets={}),
            network,
            clock,
            sink,
            begin=clock.now() + 0.05,
        )
        failed = sum(
            sum(part.failed.values()) for message in sink.messages for part in message.series
        )
        print(
            sum(message.answered for message in sink.messages), time.process_time() - used, failed
        )
        await network.aclose()
        clock.close()

    uvloop.run(program())


def place() -> str:
    """What nginx answers to such a step, as a part of its server block."""
    slots = ",".join(f'{{"id": "{at}", "begins": "20:15"}}' for at in range(7, 30))
    answer = f'{{"slots": [{slots}], "token": "t-77"}}'
    return (
        'location /step { default_type application/json; add_header Set-Cookie "visit=abc; '
        'Path=/"; return 200'
        f" '{answer}'; }}"
    )


def run() -> list[Result]:
    rates, printed = rates_beside(
        {kind: [sys.executable, "-m", "bench.realistic", kind] for kind in KINDS}, place()
    )
    failed = sum(int(out[2]) for out in printed if len(out) > 2)
    found: list[Result] = [
        (f"{each}, exchanges per processor second", statistics.median(rate), "/s", "", True)
        for each, rate in rates.items()
    ]
    ratio = statistics.median(
        a / b for a, b in zip(rates["realistic step"], rates[C_LOOP], strict=True)
    )
    found.append(("realistic step / C epoll loop", ratio, "", "≥ 0.19", ratio >= 0.19))
    for kind in list(KINDS)[1:]:
        cost = statistics.median(
            1e6 / a - 1e6 / b for a, b in zip(rates[kind], rates["realistic step"], strict=True)
        )
        found.append((f"{kind} costs more, an exchange", cost, "µs", "", True))
    found.append(("failures", failed, "", "0", failed == 0))
    return found


if __name__ == "__main__":
    child(sys.argv[1], int(sys.argv[2]))
