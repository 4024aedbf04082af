"""Debian's Chromium, as the product starts it: where it is, and what keeps it from asking others than a page does."""

import os
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


def may_have_sandbox() -> bool:
    """Root may not."""
    return os.geteuid() != 0


def unseen(*more: str) -> dict[str, Any]:
    """What Playwright launches it with, without a window."""
    return {
        "executable_path": CHROMIUM,
        "args": [*QUIET, "--disable-gpu", *more],
        "chromium_sandbox": may_have_sandbox(),
    }
