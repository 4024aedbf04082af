"""The child in which a project's Python functions run: a program of its own that needs nothing but
the standard library.

Started with an empty environment and no inherited descriptors, where the kernel allows it in
namespaces of its own with nothing but Python's files in sight; before it reads a line of the
project it gives up root, limits its memory, processor time, files and processes, and leaves the
network. Reads a JSON line for each call, answers with one.
"""

import ctypes
import json
import os
import resource
import sys
import traceback

NEW_NET = 0x40000000
NOBODY = 65534
NO_NEW_PRIVILEGES, NOT_DUMPABLE = 38, 4
CPU_S, OPEN_FILES = 3600, 16


def close_off(memory_mb: int, *, closed: bool) -> bool:
    """Bounds this process for good; true when it is alone: without network, and with an account
    that owns nothing or without a file system. `closed`: whoever started it has seen to that.
    """
    # never before the users of its generator
    os.setpriority(os.PRIO_PROCESS, 0, max(0, os.getpriority(os.PRIO_PROCESS, 0)))
    libc = ctypes.CDLL(None, use_errno=True)
    was_root = os.geteuid() == 0
    alone = closed or (bool(libc.unshare(NEW_NET) == 0) and was_root)
    limit = memory_mb * 1_000_000
    resource.setrlimit(resource.RLIMIT_AS, (limit, limit))
    resource.setrlimit(resource.RLIMIT_CPU, (CPU_S, CPU_S))
    resource.setrlimit(resource.RLIMIT_FSIZE, (0, 0))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    if was_root:
        os.setgroups([])
        os.setresgid(NOBODY, NOBODY, NOBODY)
        os.setresuid(NOBODY, NOBODY, NOBODY)
    resource.setrlimit(resource.RLIMIT_NPROC, (0, 0))
    resource.setrlimit(resource.RLIMIT_NOFILE, (OPEN_FILES, OPEN_FILES))
    libc.prctl(NO_NEW_PRIVILEGES, 1, 0, 0, 0)
    libc.prctl(NOT_DUMPABLE, 0, 0, 0, 0)
    return alone


def explained(problem: BaseException, names: dict[str, str]) -> dict[str, object]:
    """What went wrong, with the last line of the project's that took part in it."""
    if isinstance(problem, SyntaxError) and problem.filename in names:
        return {
            "error": f"{problem.filename}, line {problem.lineno}: {problem.msg}",
            "line": problem.lineno,
        }
    where = [each for each in traceback.extract_tb(problem.__traceback__) if each.filename in names]
    place = f"{where[-1].filename}, line {where[-1].lineno}: " if where else ""
    said = str(problem)[:500]
    return {
        "error": f"{place}{type(problem).__name__}{': ' + said if said else ''}",
        "line": where[-1].lineno if where else 0,
    }


def as_text(value: object) -> str:
    if isinstance(value, str):
        return value
    if value is None:
        return ""
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, dict | list | tuple):
        return json.dumps(value, ensure_ascii=False, default=str)
    return str(value)


def main() -> None:
    answers = os.fdopen(os.dup(1), "w", encoding="utf-8")
    nowhere = os.open(os.devnull, os.O_WRONLY)
    os.dup2(nowhere, 1)  # what a function prints is not an answer
    os.dup2(nowhere, 2)
    first = json.loads(sys.stdin.readline())
    modules: dict[str, str] = first["modules"]
    import base64  # noqa: F401

    os.environ.clear()
    alone = close_off(first["memory_mb"], closed=first["closed"])
    sources = {f"{name}.py": name for name in modules}

    def say(what: dict[str, object]) -> None:
        answers.write(json.dumps(what) + "\n")
        answers.flush()

    if not alone and not first["agreed"]:  # before a line of the project is read
        say({"alone": False, "refused": True})
        return
    functions: dict[str, object] = {}
    try:
        import types

        made = {name: types.ModuleType(name) for name in modules}
        sys.modules.update(made)  # they may import each other
        for name, source in modules.items():
            exec(compile(source, f"{name}.py", "exec"), made[name].__dict__)
            for each, value in vars(made[name]).items():
                if (
                    isinstance(value, types.FunctionType)
                    and value.__module__ == name
                    and not each.startswith("_")
                ):
                    functions[f"{name}.{each}"] = value
    except BaseException as problem:
        say({"alone": alone, **explained(problem, sources)})
        return
    say({"alone": alone, "functions": sorted(functions)})
    for line in sys.stdin:
        asked = json.loads(line)
        try:
            function = functions.get(asked["call"])
            if function is None:
                raise LookupError(
                    f"there is no function {asked['call']}; there are "
                    f"{', '.join(sorted(functions)) or 'none'}"
                )
            say({"value": as_text(function(**asked["with"]))[:1_000_000]})  # type: ignore[operator]
        except BaseException as problem:
            say(explained(problem, sources))


if __name__ == "__main__":
    main()
