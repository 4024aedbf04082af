"""Reading a project's Python functions."""

import ast
import uuid

from django.db.models import QuerySet
from django.shortcuts import get_object_or_404

from dynamikos.web.functions.models import Attempt, Module
from dynamikos.web.projects.models import Membership, Project


def modules(member: Membership) -> QuerySet[Module]:
    return Module.objects.filter(project=member.project).select_related("changed_by")


def functions(project: Project) -> set[str]:
    """Every "module.function" of a project."""
    return {
        f"{module.name}.{name}"
        for module in Module.objects.filter(project=project)
        for name in module.names
    }


def signatures(project: Project) -> dict[str, list[str]]:
    """Each "module.function" with the names of its arguments, found by reading, never by
    running.
    """
    made: dict[str, list[str]] = {}
    for module in Module.objects.filter(project=project, problem=""):
        for node in ast.parse(module.source).body:
            if isinstance(node, ast.FunctionDef) and node.name in module.names:
                taken = node.args
                made[f"{module.name}.{node.name}"] = [
                    each.arg for each in (*taken.posonlyargs, *taken.args, *taken.kwonlyargs)
                ]
    return dict(sorted(made.items()))


def sources(project: Project) -> dict[str, str]:
    return dict(Module.objects.filter(project=project).values_list("name", "source"))


def attempt(member: Membership, pk: uuid.UUID) -> Attempt:
    return get_object_or_404(Attempt, project=member.project, pk=pk)
