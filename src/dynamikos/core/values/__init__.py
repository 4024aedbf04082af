"""Texts with `{{ name }}` holes, compiled once and filled many times.

Never evaluates anything but names; expressions come with a later part. Start reading at `template`.
"""

from dynamikos.core.values.template import Template, compile_text, names_in

__all__ = ["Template", "compile_text", "names_in"]
