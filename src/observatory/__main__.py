"""`python -m observatory --port 8470`: the stand-in alone, as a practice target."""

import argparse

from observatory.app import Observatory
from observatory.serving import serve
from observatory.weather import WEATHER


def main() -> None:
    parser = argparse.ArgumentParser(prog="observatory", description=__doc__)
    parser.add_argument("--port", type=int, default=8470)
    parser.add_argument("--weather", choices=sorted(WEATHER), default="clear")
    parser.add_argument("--seed", type=int, default=7)
    parser.add_argument(
        "--slower",
        default="",
        metavar="RESOURCE=FACTOR",
        help="its service takes so many times as long",
    )
    parser.add_argument(
        "--fd", type=int, help="a socket that listens already, from the parent process"
    )
    given = parser.parse_args()
    name, _, factor = given.slower.partition("=")
    made = Observatory(given.weather, given.seed)
    if name:
        made.works.slower[name] = float(factor)
    serve(made, given.port, given.fd)


if __name__ == "__main__":
    main()
