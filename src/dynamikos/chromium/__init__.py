"""Debian's Chromium, as the product starts it: where it is, and what keeps it from asking others than a page does."""

import os
import tempfile
from collections.abc import Mapping
from typing import Any

CHROMIUM = "/usr/bin/chromium"
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


PASSED_ON = ("PATH", "LANG", "LC_ALL", "TZ", "TMPDIR", "XDG_RUNTIME_DIR", "DISPLAY", "WAYLAND_DISPLAY", "XAUTHORITY")


def own_environment(given: Mapping[str, str], home: str | None = None) -> dict[str, str]:
    """What a browser is told of its surroundings: none of the installation's addresses, keys and passwords."""
    kept = {name: given[name] for name in PASSED_ON if name in given}
    return {"PATH": "/usr/bin:/bin", "LANG": "C.UTF-8", **kept, "HOME": home or tempfile.gettempdir()}


def may_have_sandbox() -> bool:
    """Root may not."""
    return os.geteuid() != 0


def unseen(*more: str) -> dict[str, Any]:
    """What Playwright launches it with, without a window."""
    return {
        "executable_path": CHROMIUM,
        "args": [*QUIET, "--disable-gpu", *more],
        "chromium_sandbox": may_have_sandbox(),
        "env": own_environment(os.environ),
    }
