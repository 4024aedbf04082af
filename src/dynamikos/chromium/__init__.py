"""Debian's Chromium, as the product starts it: where it is, and what keeps it from asking others
than a page does.
"""

import functools
import logging
import os
import subprocess
import tempfile
from collections.abc import Mapping
from pathlib import Path
from typing import Any

log = logging.getLogger(__name__)

CHROMIUM = "/usr/bin/chromium"
AS_ACCOUNT = str(Path(__file__).with_name("as_account"))
# among those that no package and no person is given (systemd's dynamic users, 61184 to 65519)
ACCOUNT = 61_847
QUIET = (
    "--no-first-run",
    "--no-default-browser-check",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    "--disable-default-apps",
    "--disable-quic",
    "--disable-client-side-phishing-detection",
    "--disable-domain-reliability",
    "--metrics-recording-only",
    "--disable-features=OptimizationHints,MediaRouter,Translate,AutofillServerCommunication,"
    "CertificateTransparencyComponentUpdater",
)


PASSED_ON = (
    "PATH",
    "LANG",
    "LC_ALL",
    "TZ",
    "TMPDIR",
    "XDG_RUNTIME_DIR",
    "DISPLAY",
    "WAYLAND_DISPLAY",
    "XAUTHORITY",
)


def own_environment(given: Mapping[str, str], home: str | None = None) -> dict[str, str]:
    """What a browser is told of its surroundings: none of the installation's addresses, keys and
    passwords.
    """
    kept = {name: given[name] for name in PASSED_ON if name in given}
    return {
        "PATH": "/usr/bin:/bin",
        "LANG": "C.UTF-8",
        **kept,
        "HOME": home or tempfile.gettempdir(),
    }


@functools.cache
def unguarded() -> str:
    """Why a browser that is started here runs as root and without its sandbox; "" where it does
    not. Root starts it as an account of its own, which needs namespaces that this account may make.
    """
    if os.geteuid() != 0:
        return ""
    tried = ["setpriv", f"--reuid={ACCOUNT}", f"--regid={ACCOUNT}", "--clear-groups", "--"]
    try:
        subprocess.run(
            [*tried, "unshare", "--user", "--map-root-user", "--pid", "--net", "--fork", "true"],
            cwd="/", capture_output=True, check=True, timeout=20, text=True,
        )  # fmt: skip
    except subprocess.CalledProcessError as problem:
        why = next(iter(problem.stderr.strip().splitlines()[-1:]), f"code {problem.returncode}")
    except (OSError, subprocess.SubprocessError) as problem:
        why = str(problem)
    else:
        return ""
    said = (
        "Browsers run as root and without their sandbox: this machine does not let another "
        f"account have one ({why})."
    )
    log.warning(said)
    return said


def started_by(path: str = CHROMIUM) -> tuple[str, dict[str, str], bool]:
    """(what to execute, what it needs in its environment, whether it has its sandbox): root has it
    started as an account of its own where that may have one.
    """
    if os.geteuid() != 0 or path != CHROMIUM:
        return path, {}, os.geteuid() != 0
    if unguarded():
        return path, {}, False
    return AS_ACCOUNT, {"DYNAMIKOS_BROWSER_ACCOUNT": str(ACCOUNT)}, True


def unseen(*more: str, path: str = CHROMIUM) -> dict[str, Any]:
    """What Playwright launches it with, without a window."""
    program, needs, is_guarded = started_by(path)
    return {
        "executable_path": program,
        "args": [*QUIET, "--disable-gpu", *more],
        "chromium_sandbox": is_guarded,
        "env": own_environment(os.environ) | needs,
    }
