"""A realistic step beside the C epoll loop: two values, a header and a form, a JSON capture, a regex check, cookies; then what an
expression, checks and dealt rows add to it. Pinned and interleaved like bench.engine, against the same nginx."""

import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from bench.engine import HERE, USERS, Result, nginx
from dynamikos.cli.state import is_free, wait_for_port

SECONDS, ROUNDS = 4, 5
STEP = """form: 1
journey: j
name: J
opening:
  - step: o
    name: O
    requests: [{request: o, method: POST, address: "{{ env.base }}/step", captures: [{name: slot, json: "$.slots[0].id"}]}]
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
    + ', {status: 200}, {json: {path: $.token, equals: "t-77"}}, {contains: slots}, {value: {left: "{{ slot }}", right: "7", compare: "≥"}}'
)
KINDS = {
    "realistic step": (STEP.replace("CHECKS", REGEX).replace("USER", "{{ user.number }}"), False),
    "with an expression": (STEP.replace("CHECKS", REGEX).replace("USER", "{{ (round.number + 1) | pad(4) }}"), False),
    "with five checks": (STEP.replace("CHECKS", MORE).replace("USER", "{{ user.number }}"), False),
    "with a dealt row": (STEP.replace("CHECKS", REGEX).replace("USER", "{{ rows.name }}"), True),
}


def child(kind: str, port: int) -> None:
    """64 users without think time; prints exchanges and processor seconds of the whole process, reports included."""
    import uvloop

    from dynamikos.core.frozen import DataPile, FrozenRun
    from dynamikos.core.journeys import parse_journey
    from dynamikos.core.plans import Plan, parse_target
    from dynamikos.core.profiles import Stretch
    from dynamikos.core.reports import encode
    from dynamikos.engine.clock import RealClock
    from dynamikos.engine.network import RealNetwork
    from dynamikos.engine.runner import Shard, run
    from dynamikos.engine.testing import ListSink

    text, deals = KINDS[kind]
    base = f"http://127.0.0.1:{port}"
    plan = Plan(
        form=1, plan="p", name="P", journey="j", environment="e", grace_s=1,
        profile=(Stretch(stretch="climb", to=USERS, seconds=0), Stretch(stretch="hold", seconds=SECONDS)),
    )  # fmt: skip
    rows = [[f"name {at}"] for at in range(10_000)]
    data = (DataPile(key="rows", columns=("name",), rows=len(rows)),) if deals else ()
    frozen = FrozenRun(
        run="r", seed=1, plan=plan, journey=parse_journey(text), values={"env.base": base}, agreed=(parse_target(base),), data=data
    )

    async def program() -> None:
        clock, network, sink = RealClock(), RealNetwork(frozen.agreed), ListSink(encode)
        used = time.process_time()
        await run(Shard(number=0, count=1, frozen=frozen, rows={"rows": rows}, secrets={}), network, clock, sink, begin=clock.now() + 0.05)
        failed = sum(sum(part.failed.values()) for message in sink.messages for part in message.series)
        print(sum(message.answered for message in sink.messages), time.process_time() - used, failed)
        await network.aclose()
        clock.close()

    uvloop.run(program())


def run() -> list[Result]:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        port = next(port for port in range(18300, 18400) if is_free(port))
        loop = folder / "epoll_loop"
        subprocess.run(["gcc", "-O2", "-D_GNU_SOURCE", "-o", str(loop), str(HERE / "epoll_loop.c")], check=True)
        server = nginx(folder, port)
        server.terminate()
        server.wait()
        slots = ",".join(f'{{"id": "{at}", "begins": "20:15"}}' for at in range(7, 30))
        answer = f'{{"slots": [{slots}], "token": "t-77"}}'
        conf = (folder / "nginx.conf").read_text().replace(
            f"root {folder}; ", f"root {folder}; location /step {{ default_type application/json; add_header Set-Cookie \"visit=abc; Path=/\"; return 200 '{answer}'; }} "
        )  # fmt: skip
        (folder / "nginx.conf").write_text(conf)
        server = subprocess.Popen(
            ["taskset", "-c", "0", "/usr/sbin/nginx", "-c", str(folder / "nginx.conf"), "-p", str(folder)], stderr=subprocess.DEVNULL
        )
        try:
            wait_for_port(port, 5)
            commands = {"C epoll loop": [str(loop), str(port), str(USERS), str(SECONDS)]}
            commands |= {kind: [sys.executable, "-m", "bench.realistic", kind, str(port)] for kind in KINDS}
            rates: dict[str, list[float]] = {each: [] for each in commands}
            failed = 0
            for _ in range(ROUNDS):
                for each, command in commands.items():
                    out = subprocess.run(["taskset", "-c", "1", *command], capture_output=True, text=True, check=True).stdout.split()
                    rates[each].append(int(out[0]) / float(out[1]))
                    failed += int(out[2]) if len(out) > 2 else 0
        finally:
            server.terminate()
            server.wait()
    found: list[Result] = [
        (f"{each}, exchanges per processor second", statistics.median(rate), "/s", "", True) for each, rate in rates.items()
    ]
    ratio = statistics.median(a / b for a, b in zip(rates["realistic step"], rates["C epoll loop"], strict=True))
    found.append(("realistic step / C epoll loop", ratio, "", "≥ 0.12", ratio >= 0.12))
    for kind in list(KINDS)[1:]:
        cost = statistics.median(1e6 / a - 1e6 / b for a, b in zip(rates[kind], rates["realistic step"], strict=True))
        found.append((f"{kind} costs more, an exchange", cost, "µs", "", True))
    found.append(("failures", failed, "", "0", failed == 0))
    return found


if __name__ == "__main__":
    child(sys.argv[1], int(sys.argv[2]))
