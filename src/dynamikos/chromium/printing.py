"""Pages of paper from a page of HTML, by the browser that is there, which is given no network."""

import threading
from pathlib import Path

from dynamikos.chromium import CHROMIUM, unseen
from dynamikos.core.errors import DynamikosError

FOOT = (
    '<div style="font-size:8px;width:100%;text-align:center;color:#666">page <span '
    'class="pageNumber"></span> of'
    ' <span class="totalPages"></span></div>'
)
WAIT_S, LONGEST_MS = 60.0, 60_000.0
_one_at_a_time = threading.Lock()


def printed(html: str) -> bytes:
    """A PDF of A4 pages with numbers. Raises DynamikosError without a browser, or where it
    can't.
    """
    from playwright.sync_api import Error, sync_playwright

    if not Path(CHROMIUM).exists():
        raise DynamikosError(
            f"There is no browser at {CHROMIUM} to print with; install Debian's package chromium."
        )
    if not _one_at_a_time.acquire(timeout=WAIT_S):
        raise DynamikosError("Others are printed at the moment; try it again in a minute.")
    try:
        with sync_playwright() as play:
            browser = play.chromium.launch(**unseen())
            page = browser.new_context(offline=True).new_page()
            page.set_default_timeout(LONGEST_MS)
            page.set_content(html)
            page.evaluate(
                "document.querySelectorAll('details').forEach((each) => { each.open = true; })"
            )
            made = page.pdf(
                format="A4", print_background=True, display_header_footer=True,
                header_template="<span></span>", footer_template=FOOT,
                margin={"top": "14mm", "bottom": "16mm", "left": "12mm", "right": "12mm"},
            )  # fmt: skip
            browser.close()
            return made
    except Error as problem:
        raise DynamikosError(
            f"The browser could not print it: {str(problem).splitlines()[0][:200]}"
        ) from problem
    finally:
        _one_at_a_time.release()
