"""`python -m observatory --port 8470`: the stand-in alone, as a practice target."""

import argparse

import uvicorn

from observatory.app import Observatory
from observatory.weather import WEATHER


def main() -> None:
    parser = argparse.ArgumentParser(prog="observatory", description=__doc__)
    parser.add_argument("--port", type=int, default=8470)
    parser.add_argument("--weather", choices=sorted(WEATHER), default="clear")
    parser.add_argument("--seed", type=int, default=7)
    given = parser.parse_args()
    uvicorn.run(
        Observatory(given.weather, given.seed), host="127.0.0.1", port=given.port, log_level="warning", access_log=False, loop="uvloop",
        http="httptools", timeout_keep_alive=75, timeout_graceful_shutdown=1, backlog=4096, server_header=False,
    )  # fmt: skip


if __name__ == "__main__":
    main()
