"""A syntax-tree test keeps clocks, files, sockets and global randomness out of core and
of the engine's pure modules.
"""

import ast
from pathlib import Path
from unittest import TestCase

SOURCE = Path(__file__).parents[2] / "src/dynamikos"
FORBIDDEN = {
    "open",
    "datetime.now",
    "datetime.utcnow",
    "datetime.today",
    "time.time",
    "time.monotonic",
    "time.perf_counter",
    "uuid.uuid4",
    "uuid.uuid1",
    "os.urandom",
    "random.random",
    "random.choice",
    "random.randint",
    "random.shuffle",
    "random.seed",
    "urllib.request",
    "socket.socket",
    "create_connection",
    "start_tls",
    "date.today",
}


def used(tree: ast.AST) -> set[str]:
    names = set()
    for node in ast.walk(tree):
        if isinstance(node, ast.Call):
            if isinstance(node.func, ast.Name):
                names.add(node.func.id)
            elif isinstance(node.func, ast.Attribute):
                owner = node.func.value
                names.add(node.func.attr)
                if isinstance(owner, ast.Name):
                    names.add(f"{owner.id}.{node.func.attr}")
        if isinstance(node, ast.Import):
            names.update(alias.name for alias in node.names)
        if isinstance(node, ast.ImportFrom):
            names.update(f"{node.module}.{alias.name}" for alias in node.names)
    return names


class Purity(TestCase):
    def test_core_and_pure_modules(self) -> None:
        files = [
            *SOURCE.glob("core/**/*.py"),
            SOURCE / "engine/http/protocol.py",
            SOURCE / "engine/http/cookies.py",
        ]
        self.assertGreater(len(files), 40)
        for path in files:
            with self.subTest(path.name):
                self.assertEqual(used(ast.parse(path.read_text())) & FORBIDDEN, set(), path)

    def test_sockets_only_in_network(self) -> None:
        for path in SOURCE.glob("engine/**/*.py"):
            if path.name not in ("network.py",):
                self.assertEqual(
                    used(ast.parse(path.read_text()))
                    & {"socket.socket", "create_connection", "open_connection"},
                    set(),
                    path,
                )

    def test_the_test_itself_notices(self) -> None:
        self.assertIn("datetime.now", used(ast.parse("datetime.now()")) & FORBIDDEN)
        self.assertIn("open", used(ast.parse("open('x')")) & FORBIDDEN)
