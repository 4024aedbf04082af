"""Seconds that tests make short, from the process environment."""

import os


def seconds(name: str, default: float) -> float:
    return float(os.environ.get(f"DYNAMIKOS_{name}", default))


def own_ports() -> frozenset[int]:
    """The ports of this installation itself, which are never targets."""
    return frozenset(
        int(port) for port in os.environ.get("DYNAMIKOS_OWN_PORTS", "").split(",") if port
    )


HEARTBEAT_S = seconds("HEARTBEAT_S", 1.0)
LOST_S = seconds("GENERATOR_LOST_S", 4.0)
TICK_S = seconds("COORDINATOR_TICK_S", 0.2)
IDLE_S = seconds(
    "IDLE_S", 10.0
)  # between two looks while nothing is under way; whatever begins says so by NOTIFY
AHEAD_S = seconds("START_AHEAD_S", 1.5)
CLEAN_UP_S = seconds(
    "CLEAN_UP_S", 1800.0
)  # how long a generator remembers what a rehearsal ended with
CUT_OFF_S = seconds(
    "CUT_OFF_S", 60.0
)  # a generator that can't reach the database for so long stops its users
# how long a run waits for a lost generator to come back before it is closed
LOST_CLOSE_S = seconds("LOST_CLOSE_S", 10.0)
CONFIRM_S = seconds("CONFIRM_S", 15.0)  # how long a generator may take to say that it is idle
LOADING_S = seconds("LOADING_S", 300.0)  # and to load its rows
RECONNECT_S = seconds("RECONNECT_S", 0.5)
DISK_LOW_MB = seconds("DISK_LOW_MB", 64.0)  # with less room on its disk a run is ended
DISK_RESERVE_MB = seconds("DISK_RESERVE_MB", 64.0)  # put by, so that this can still be said
