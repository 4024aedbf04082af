"""What queueing theory says about the stand-in: Erlang C for open, exact mean-value analysis for
closed workloads.
"""

from collections.abc import Mapping


def erlang_c(arrivals_per_s: float, servers: int, mean_s: float) -> float:
    """Mean time in an M/M/c station, seconds; infinite at or beyond saturation."""
    load = arrivals_per_s * mean_s
    if load >= servers:
        return float("inf")
    term, total = 1.0, 1.0
    for k in range(1, servers):
        term *= load / k
        total += term
    last = term * load / servers * servers / (servers - load)
    waiting = last / (total + last)
    return mean_s + waiting * mean_s / (servers - load)


def closed_law(
    stations: Mapping[str, tuple[int, float]],
    visits: Mapping[str, float],
    think_s: float,
    users: int,
) -> dict[str, float]:
    """Exact mean-value analysis with multi-server stations (Reiser & Lavenberg 1980, load-dependent
    form).

    `stations`: name → (servers, mean service s); `visits`: mean visits of a round. Returns rounds/s
    ("throughput_per_s"), mean time of a round without think ("response_s") and each station's
    residence ("residence_s:NAME") at `users` users.
    """
    names = [name for name in stations if visits.get(name, 0) > 0]
    # marginal probabilities p[name][j] of j customers at the station
    p = {name: [1.0] + [0.0] * users for name in names}
    throughput, residence = 0.0, dict.fromkeys(names, 0.0)
    for n in range(1, users + 1):
        for name in names:
            servers, mean = stations[name]
            residence[name] = visits[name] * sum(
                j * mean / min(j, servers) * p[name][j - 1] for j in range(1, n + 1)
            )
        throughput = n / (think_s + sum(residence.values()))
        for name in names:
            servers, mean = stations[name]
            new = [0.0] * (users + 1)
            for j in range(1, n + 1):
                new[j] = throughput * visits[name] * mean / min(j, servers) * p[name][j - 1]
            new[0] = max(0.0, 1.0 - sum(new[1:]))
            p[name] = new
    found = {"throughput_per_s": throughput, "response_s": sum(residence.values())}
    found.update({f"residence_s:{name}": value for name, value in residence.items()})
    return found


def saturation_per_s(
    stations: Mapping[str, tuple[int, float]], visits: Mapping[str, float]
) -> tuple[float, str]:
    """(highest rate of rounds, the station that sets it): min c/D."""
    return min(
        (servers / (mean * visits[name]), name)
        for name, (servers, mean) in stations.items()
        if visits.get(name, 0) > 0
    )
