"""What the blocks of a casebook show, live; as a page of its own, and as Markdown."""

import contextlib
import threading
import time
from collections.abc import Iterator
from dataclasses import dataclass

from dynamikos.core.errors import DynamikosError
from dynamikos.core.telling import Report
from dynamikos.core.telling import casebook as core
from dynamikos.core.telling.evidence import Evidence
from dynamikos.core.telling.page import (
    as_page,
    evidence_as_html,
    evidence_as_markdown,
    heading_as_html,
    part_as_html,
    part_as_markdown,
    text_as_html,
)
from dynamikos.core.telling.sheets import as_files, packed, sheets_of, sheets_of_evidence
from dynamikos.web.casebook.models import Casebook
from dynamikos.web.casebook.pins import SHOWN
from dynamikos.web.casebook.pins.seen import Seen
from dynamikos.web.casebook.queries import content
from dynamikos.web.projects.models import Project
from dynamikos.web.runs import telling


@dataclass(frozen=True, slots=True)
class Shown:
    """A block with its fragment; `problem` says why there is nothing to show (its run was
    deleted).
    """

    block: core.Block
    html: str = ""
    problem: str = ""

    @property
    def kind(self) -> str:
        return (
            "text"
            if isinstance(self.block, core.Text)
            else "pin"
            if isinstance(self.block, core.Pin)
            else "part"
        )

    @property
    def name(self) -> str:
        """What it is called in a list of commands."""
        if isinstance(self.block, core.Text):
            return (
                f"the paragraph “{self.block.text.strip()[:30]}”"
                if self.block.text.strip()
                else "an empty paragraph"
            )
        return (
            f"the part {self.block.part}"
            if isinstance(self.block, core.OfReport)
            else self.block.title
        )


def evidence(project: Project, pin: core.Pin) -> Evidence:
    """Raises DynamikosError where what was pinned is gone."""
    return SHOWN[pin.what](Seen(project, pin.of))


class _Reports:
    """Those of the runs of one casebook, each gathered once."""

    def __init__(self, project: Project) -> None:
        self._project = project
        self._known: dict[str, Report] = {}

    def of(self, run: str) -> Report:
        if run not in self._known:
            self._known[run] = telling.report(Seen(self._project, {"run": run}).run)
        return self._known[run]


def shown(found: Casebook) -> Iterator[Shown]:
    """All blocks in their order."""
    reports = _Reports(found.project)
    for block in content(found).blocks:
        try:
            yield Shown(block, _html(found.project, reports, block))
        except DynamikosError as problem:
            yield Shown(block, problem=str(problem))


def _html(project: Project, reports: _Reports, block: core.Block) -> str:
    if isinstance(block, core.Text):
        return text_as_html(block.text) if block.text.strip() else ""
    if isinstance(block, core.OfReport):
        return part_as_html(block.part, reports.of(block.run))
    return evidence_as_html(evidence(project, block)) + (
        text_as_html(block.note) if block.note.strip() else ""
    )


def _gone(block: core.Block, problem: str) -> Evidence:
    title = block.title if isinstance(block, core.Pin) else block.key
    return Evidence(title=title, sentences=[f"It can't be shown: {problem}"])


def _has_head(found: Casebook) -> bool:
    """Whether it begins with a verdict, which says what it is about."""
    first = next(iter(content(found).blocks), None)
    return isinstance(first, core.OfReport) and first.part == "verdict"


def as_html(found: Casebook) -> str:
    """One file that needs nothing else; of a closed one what it was then."""
    if found.closed_at is not None:
        return found.html
    fragments = [] if _has_head(found) else [heading_as_html(found.name)]
    fragments += [
        each.html or (evidence_as_html(_gone(each.block, each.problem)) if each.problem else "")
        for each in shown(found)
    ]
    return as_page(found.name, fragments)


KEPT_S, MOST_KEPT = 60.0, 16
_kept: dict[tuple[object, ...], tuple[float, str]] = {}
_computing = threading.Lock()


def for_readers(found: Casebook) -> str:
    """As HTML, computed once a version and minute however many ask: a link may be in everybody's
    mail. Figures of runs under way, and of what was taken into a run afterwards, are a minute old
    at most.
    """
    key = (found.pk, found.head_id, found.closed_at)
    with _computing:  # whoever asks meanwhile waits for the same
        begun, html = _kept.get(key, (-KEPT_S, ""))
        if not html or time.monotonic() - begun > KEPT_S:
            html = as_html(found)
            _kept.pop(key, None)
            _kept[key] = time.monotonic(), html
            while len(_kept) > MOST_KEPT:
                _kept.pop(next(iter(_kept)))
    return html


def as_folder(found: Casebook) -> bytes:
    """A folder in one file: the text, the tables and pictures that are pinned, and all figures of
    the runs they are of; of a closed one as it was then.
    """
    if found.closed_at is not None:
        if not found.folder:
            raise DynamikosError(
                "It was closed before figures were kept with it; open it again to have them."
            )
        return bytes(found.folder)
    return packed(_files(found))


def _files(found: Casebook) -> Iterator[tuple[str, bytes]]:
    yield "casebook.md", as_markdown(found).encode()
    runs: dict[str, Report] = {}
    reports = _Reports(found.project)
    for at, block in enumerate(content(found).blocks, 1):
        if isinstance(block, core.Text):
            continue
        of = block.run if isinstance(block, core.OfReport) else block.of.get("run", "")
        # what is gone, or has nothing to tell yet, is so in the text as well
        with contextlib.suppress(DynamikosError):
            if of:
                runs.setdefault(of, reports.of(of))
        with contextlib.suppress(DynamikosError):
            if isinstance(block, core.Pin):
                shown = evidence(found.project, block)
                name = f"{at:02}-{block.key}"
                yield from as_files(sheets_of_evidence(shown, name))
                yield from ((f"{name}.jpg", photo.jpeg) for photo in shown.photos)
    for report in runs.values():
        yield from as_files(sheets_of(report, f"{report.run.replace(' ', '-')}/"))


def as_markdown(found: Casebook) -> str:
    """Its text, without drawings; of a closed one what it was then."""
    if found.closed_at is not None:
        return found.markdown
    reports = _Reports(found.project)
    made = [] if _has_head(found) else [f"# {found.name}"]
    for block in content(found).blocks:
        try:
            if isinstance(block, core.Text):
                made.append(block.text.strip())
            elif isinstance(block, core.OfReport):
                made.append(part_as_markdown(block.part, reports.of(block.run)))
            else:
                made += [evidence_as_markdown(evidence(found.project, block)), block.note.strip()]
        except DynamikosError as problem:
            made.append(evidence_as_markdown(_gone(block, str(problem))))
    return "\n\n".join(filter(None, made)) + "\n"
