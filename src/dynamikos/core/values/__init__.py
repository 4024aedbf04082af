"""Texts with holes, compiled once; filters and makers of values.

Never evaluates anything a user wrote beyond names, filters and makers. Start reading at `template`.
"""

from dynamikos.core.values.makers import Maker, Values
from dynamikos.core.values.template import Template, bind, compile_text, names_in

__all__ = ["Maker", "Template", "Values", "bind", "compile_text", "names_in"]
