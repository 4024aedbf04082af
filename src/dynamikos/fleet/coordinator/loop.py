"""The coordinator's loop: one at a time by advisory lock; wakes by NOTIFY, and looks around every
tick anyway.
"""

import logging
import threading
import time
from collections.abc import Callable

import psycopg
from django.conf import settings
from django.db import InterfaceError, OperationalError, connection

from dynamikos.core.forms.ready import make_ready
from dynamikos.core.lifecycles import REHEARSAL, RUN, going, moved
from dynamikos.core.verdicts.ending import refused
from dynamikos.fleet.coordinator.noticing import Noticing, expire
from dynamikos.fleet.coordinator.watch import RunWatch
from dynamikos.fleet.disk import Reserve
from dynamikos.fleet.hints import wait
from dynamikos.fleet.settings import HEARTBEAT_S, IDLE_S, RECONNECT_S, TICK_S, own_ports
from dynamikos.fleet.telling import Teller
from dynamikos.web.rehearsals.models import Rehearsal
from dynamikos.web.runs.models import Run
from dynamikos.web.streams.broker import parameters

log = logging.getLogger(__name__)
LOCK, SWEEP_S = 7300, 3600.0
NOT_JUDGED_AFTER_RECONNECT_S = 5.0


def serve(stop: threading.Event) -> None:
    """Until `stop` is set. Survives a restart of the database; then nothing is judged lost for 5 s
    + a heartbeat.
    """
    watches: dict[str, RunWatch] = {}
    make_ready()
    noticing, swept = Noticing(), -SWEEP_S
    teller, reserve = Teller(own_ports()), Reserve(settings.STATE)
    while not stop.is_set():
        try:
            with psycopg.connect(parameters(), autocommit=True) as link:
                while not stop.is_set():
                    row = link.execute("SELECT pg_try_advisory_lock(%s)", (LOCK,)).fetchone()
                    if row and row[0]:
                        break
                    stop.wait(1.0)  # another coordinator is at work; take over when it ends
                link.execute("LISTEN dynamikos_coordinator")
                link.execute("LISTEN dynamikos_report")
                connected = time.monotonic()
                while not stop.is_set():
                    calm = time.monotonic() - connected > (
                        NOT_JUDGED_AFTER_RECONNECT_S + HEARTBEAT_S if watches else 0
                    )
                    is_busy = tick(watches, may_judge_lost=calm or connected == 0, reserve=reserve)
                    _kept_going(noticing.tick)
                    _kept_going(teller.tick)
                    if time.monotonic() - swept > SWEEP_S:
                        swept = time.monotonic()
                        _kept_going(expire)
                        _kept_going(reserve.put_by)
                    is_busy = is_busy or noticing.is_busy or teller.is_busy
                    wait(link, TICK_S if is_busy else IDLE_S, stop)
        except (psycopg.OperationalError, OperationalError, InterfaceError) as problem:
            log.warning("the database is away (%s); trying again", str(problem).strip())
            reserve.shortage()  # where it is the disk, there is room for the rest now
            connection.close()
            stop.wait(RECONNECT_S)
    teller.close()


def _kept_going(work: Callable[[], object]) -> None:
    """What runs do not depend on never ends the coordinator."""
    try:
        work()
    except (OperationalError, InterfaceError):
        raise
    except Exception:
        log.exception("housekeeping failed; runs go on")


def tick(
    watches: dict[str, RunWatch], *, may_judge_lost: bool, reserve: Reserve | None = None
) -> bool:
    """One look at every run that is not over; whether there was anything to look at."""
    is_busy, full = False, reserve.shortage() if reserve is not None else ""
    for run in Run.objects.filter(state__in=going(RUN)):
        key, is_busy = str(run.pk), True
        if key not in watches:
            watches[key] = RunWatch(run)
        try:
            watches[key].look(may_judge_lost=may_judge_lost, full=full)
        except (OperationalError, InterfaceError):
            # it may have added up a second without having said so, and would do it again: read anew
            # from the reports
            del watches[key]
            raise
        except Exception:
            log.exception("run %s can't be followed", key)
            why = "the coordinator failed on it; log/coordinator.log in the state folder says why"
            watches[key].give_up(refused(why))
        if watches[key].is_over:
            del watches[key]
    is_busy |= _lost_rehearsals()
    for run in Run.objects.filter(is_folded=False, state=Run.State.ENDED)[:1]:
        is_busy = True
        try:
            RunWatch(run).fold_anew()
        except (OperationalError, InterfaceError):
            raise
        except Exception:
            log.exception("run %s can't be folded anew; it is shown as it is", run.pk)
            Run.objects.filter(pk=run.pk).update(is_folded=True)
    return is_busy


def _lost_rehearsals() -> bool:
    """A rehearsal whose generator is gone is said to be lost, not left waiting. Whether there are
    any under way.
    """
    from dynamikos.web.places.queries import living

    waiting = list(Rehearsal.objects.filter(state__in=going(REHEARSAL)))
    cleaning = list(Rehearsal.objects.filter(cleanup__in=["asked", "running"]))
    if not waiting and not cleaning:
        return False
    alive = {generator.pk for generator in living()}
    from dynamikos.fleet.coordinator.stream import say

    for each in waiting:
        if each.generator_id not in alive:
            each.state = moved(REHEARSAL, each.state, Rehearsal.State.LOST)
            each.reason = (
                "The generator that performed it is gone. Start one, or wait for its restart, and "
                "rehearse again."
            )
            each.save(update_fields=["state", "reason"])
            say(each.pk, "end", "lost")
    for each in cleaning:
        if each.generator_id not in alive:
            each.cleanup = "gone"
            each.save(update_fields=["cleanup"])
    return True
