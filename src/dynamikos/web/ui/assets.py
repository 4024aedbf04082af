"""Versions of static files by their content."""

import functools
import hashlib
from pathlib import Path

from django.contrib.staticfiles import finders


@functools.cache
def version_of(path: str) -> str:
    found = finders.find(path)
    if not found:
        raise FileNotFoundError(f"static file {path} does not exist")
    return hashlib.sha256(Path(str(found)).read_bytes()).hexdigest()[:10]
