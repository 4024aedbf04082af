"""Texts with holes, compiled once; filters and makers of values.

Runs nothing of an expression while it is only read. Start reading at `template`, then
`expressions`.
"""

from dynamikos.core.values.makers import Maker, Values
from dynamikos.core.values.template import (
    Template,
    bind,
    calculates,
    compile_condition,
    compile_list,
    compile_text,
    names_in,
)

__all__ = [
    "Maker",
    "Template",
    "Values",
    "bind",
    "calculates",
    "compile_condition",
    "compile_list",
    "compile_text",
    "names_in",
]
