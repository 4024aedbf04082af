"""What this machine lets one process have."""

import resource

SPARE = 64  # descriptors that the process itself needs: logs, database, timers, functions


def raise_descriptors() -> int:
    """Raises the soft limit of open files to the hard one and gives it: a shell's usual 1,024 would
    be reached by a thousand users.
    """
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    most = 1_048_576 if hard == resource.RLIM_INFINITY else hard
    if soft < most:
        resource.setrlimit(resource.RLIMIT_NOFILE, (most, hard))
    return most


def descriptors() -> int:
    """How many open files this process may have."""
    return resource.getrlimit(resource.RLIMIT_NOFILE)[0]
