"""A crowd's load in words."""

from dynamikos.core.plans.crowds import Crowd
from dynamikos.core.profiles import Arrivals, Held, UserRounds


def unit_of(crowd: Crowd) -> str:
    """What its curve counts."""
    if isinstance(crowd.load, Arrivals):
        return f"arrivals a {crowd.load.per}"
    if isinstance(crowd.load, Held):
        return f"rounds a {crowd.load.per}"
    return "users"


def says(crowd: Crowd) -> str:
    """Its load in a sentence."""
    load = crowd.load
    paced = ""
    if load.pacing_s:
        paced = f", a round every {'–'.join(f'{each:g}' for each in load.pacing_s)} s"
    if isinstance(load, UserRounds):
        return f"{load.users:,} users perform {load.rounds:,} rounds each{paced}."
    if isinstance(load, Arrivals):
        how = "evenly" if load.spread == "even" else "at random (Poisson)"
        return f"New users arrive {how}; above {load.ceiling:,} at once they are turned away."
    if isinstance(load, Held):
        how = "evenly" if load.spread == "even" else "at random (Poisson)"
        return f"Rounds are begun {how}, by at most {load.ceiling:,} users."
    leave = {"step": "", "round": "; those taken away finish their round", "now": "; those taken away leave at once"}
    return f"So many users are there as the curve says{paced}{leave[load.leaving]}."
