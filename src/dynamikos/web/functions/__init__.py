"""Python functions of a project: their sources, and tries of them on a generator.

Never runs or loads one (generators do, in a child process). Start reading at `models`.
"""
