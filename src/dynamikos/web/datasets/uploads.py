"""Files on their way into data sets: kept as they came, looked at, read in a worker."""

from collections.abc import Iterable
from pathlib import Path, PurePath

import msgspec
from django.conf import settings

from dynamikos import workers
from dynamikos.core.dealing import SAMPLE, Form, Reading, detect, packed
from dynamikos.core.errors import ImportRefused
from dynamikos.core.journeys import key_from
from dynamikos.web.datasets import tables
from dynamikos.web.datasets.models import DataSet, Upload
from dynamikos.web.datasets.tables import Progress
from dynamikos.web.projects.models import Membership, Project


def file_of(upload: Upload) -> Path:
    return Path(settings.UPLOADS) / str(upload.pk)


def keep_upload(member: Membership, chunks: Iterable[bytes], name: str, size: int) -> Upload:
    """A file kept as it came, with how it seems to be written. Raises ImportRefused."""
    if not size:
        raise ImportRefused(f"{name} is empty. A data set needs at least one row.")
    if size > settings.MAX_UPLOAD_BYTES:
        raise ImportRefused(
            f"{name} has {size:,} bytes; at most {settings.MAX_UPLOAD_BYTES:,} are taken at once."
        )
    Path(settings.UPLOADS).mkdir(parents=True, exist_ok=True, mode=0o700)
    forget_old(member.project)
    made = Upload.objects.create(project=member.project, name=name[:120], size=size)
    with file_of(made).open("wb") as file:
        for chunk in chunks:
            file.write(chunk)
    with file_of(made).open("rb") as file:
        made.form = msgspec.to_builtins(detect(file.read(SAMPLE)))
    made.save(update_fields=["form"])
    return made


def forget_old(project: Project) -> None:
    """Uploads of this project that were never taken in, but the newest ten."""
    for old in Upload.objects.filter(project=project).order_by("-at")[10:]:
        forget(old)


def forget(upload: Upload) -> None:
    file_of(upload).unlink(missing_ok=True)
    upload.delete()


def preview(
    upload: Upload, form: Form, rows: int = 12
) -> tuple[tuple[str, ...], list[list[str]], str]:
    """(columns, first rows, what is wrong) of an upload read as `form`."""
    found: list[list[str]] = []
    columns: tuple[str, ...] = ()
    try:
        with file_of(upload).open("rb") as file:
            reading = Reading(iter(lambda: file.read(1 << 15), b""), upload.name, form)
            columns = reading.columns
            for row in reading.rows():
                found.append(row)
                if len(found) >= rows:
                    break
    except ImportRefused as problem:
        return columns, found, str(problem)
    except OSError:
        return (
            (),
            [],
            f"{upload.name} is not here any more (uploads are kept for a while only); choose the "
            "file again.",
        )
    return columns, found, ""


def key_for(name: str) -> str:
    return key_from(PurePath(name).stem).replace("-", "_")


def take_in(
    member: Membership, upload: Upload, form: Form, progress: Progress = lambda share: None
) -> DataSet:
    """An upload as a data set; one with the same key is replaced, and can be gone back to.

    Raises ImportRefused; then nothing is changed.
    """
    out = tables.scratch()
    try:
        answer = tables.worked(
            "read_table",
            msgspec.msgpack.encode((str(file_of(upload)), upload.name, form, str(out))),
            progress,
        )
        columns, blocks = msgspec.msgpack.decode(
            answer, type=tuple[tuple[str, ...], list[tuple[str, int, int]]]
        )
        made = tables.replace(
            member,
            key_for(upload.name),
            upload.name,
            columns,
            tables.bodies(out, blocks, progress),
            form,
        )
    except workers.WorkerError as problem:
        raise ImportRefused(f"{upload.name}: {problem}") from problem
    finally:
        out.unlink(missing_ok=True)
    forget(upload)
    return made


def import_csv(
    member: Membership, data: bytes, file_name: str, progress: Progress = lambda share: None
) -> DataSet:
    """A file as a data set, read as it seems to be written. Raises ImportRefused; then nothing is
    changed.
    """
    form = detect(data[:SAMPLE])
    reading = Reading([data], file_name, form)
    return tables.replace(
        member, key_for(file_name), file_name, reading.columns, packed(reading.rows()), form
    )
