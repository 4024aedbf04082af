"""The deal as a drawing: users × rounds, each cell the row it gets, for the rules at hand and a
planned load.
"""

from dataclasses import dataclass

from dynamikos.core.dealing import Cell, Deal, drawing, used_up_s
from dynamikos.core.figures import clock

USERS, ROUNDS, LEFT, TOP, CELL_W, CELL_H = 10, 8, 58, 26, 76, 24


@dataclass(frozen=True, slots=True)
class Box:
    """A cell with its place and words."""

    x: int
    y: int
    text: str
    state: str
    title: str


@dataclass(frozen=True, slots=True)
class Drawing:
    width: int
    height: int
    boxes: list[Box]
    users: list[tuple[int, str]]
    rounds: list[tuple[int, str]]
    load: str  # of which planned load
    ends: str  # when rows run out, in words


def _text(cell: Cell) -> str:
    if cell.state == "over":
        return "–"
    return f"{cell.first:,}" if cell.first == cell.last else f"{cell.first:,}–{cell.last:,}"


WORDS = {"": "", "over": ": no row left", "stays": ": stays on it", "again": ": dealt again"}


def ends_of(
    deal: Deal, rows: int, starts_s: list[tuple[float, float]], round_s: float, load: str
) -> tuple[str, bool]:
    """(what becomes of the rows with the planned users of `load`, in a sentence; whether it ends
    the run or users early).
    """
    if deal.order == "at random":
        return (
            "Rows are drawn at random, again and again, so they never run out; the same row may "
            "come twice.",
            False,
        )
    if deal.follow:
        return f"The row is the one that {deal.follow} is on.", False
    if not starts_s:
        return "No load plan uses this data set yet, so ten users are drawn.", False
    end = used_up_s(deal, rows, starts_s, round_s)
    if end is None:
        if round_s > 0 or deal.when != "round":
            return f"With {load} rows last to the end.", False
        return "How long a round takes is not known yet, so neither is when rows run out.", False
    if deal.then == "start over":
        return (
            f"With {load} rows run out at {clock(end)} and are dealt again from the first.",
            False,
        )
    what = {
        "stay": "users stay on their last row",
        "leave": "users begin to leave",
        "stop": "the run stops",
    }[deal.then]
    return f"With {load} rows run out at {clock(end)}: from then on {what}.", deal.then in (
        "leave",
        "stop",
    )


def draw(
    deal: Deal,
    key: str,
    seed: int,
    rows: int,
    starts_s: list[tuple[float, float]],
    round_s: float,
    load: str,
) -> Drawing:
    """`starts_s` are the planned users' (start, end); without a plan ten users are drawn."""
    users = len(starts_s) or 10
    shown = min(users, USERS)
    grid = drawing(deal, key, seed, rows, users, shown, ROUNDS)
    boxes = []
    for at, line in enumerate(grid):
        for turn, cell in enumerate(line):
            words = f"user {at + 1}, round {turn + 1}: " + (
                "no row left" if cell.state == "over" else f"row {_text(cell)}{WORDS[cell.state]}"
            )
            boxes.append(
                Box(LEFT + turn * CELL_W, TOP + at * CELL_H, _text(cell), cell.state, words)
            )
    ends, _ = ends_of(deal, rows, starts_s, round_s, load)
    return Drawing(
        width=LEFT + ROUNDS * CELL_W + 4,
        height=TOP + shown * CELL_H + 4,
        boxes=boxes,
        users=[(TOP + at * CELL_H + 16, f"user {at + 1}") for at in range(shown)],
        rounds=[
            (LEFT + turn * CELL_W + CELL_W // 2, f"round {turn + 1}") for turn in range(ROUNDS)
        ],
        load=load,
        ends=ends,
    )
