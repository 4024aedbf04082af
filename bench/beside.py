"""Commands beside a C epoll loop, all against the same nginx: each pinned to core 1, nginx to core
0, rounds interleaved.
"""

import os
import subprocess
import tempfile
from pathlib import Path

from dynamikos.cli.state import is_free, wait_for_port

HERE = Path(__file__).parent
USERS, SECONDS, ROUNDS = 64, 4, 5
C_LOOP = "C epoll loop"


def nginx(
    folder: Path, port: int, more: str = "", connections: int = 1024
) -> "subprocess.Popen[bytes]":
    """Debian's nginx on core 0, serving 1 kB at /kb over so many `connections` at once; `more` goes
    into its server block, with FOLDER for the folder it serves.
    """
    os.chmod(folder, 0o755)
    (folder / "kb").write_bytes(b"x" * 1024)
    (folder / "nginx.conf").write_text(
        f"daemon off; worker_processes 1; pid {folder}/pid; error_log {folder}/error.log;\n"
        f"events {{ worker_connections {connections}; }}\n"
        "http { access_log off; keepalive_requests 100000000; keepalive_timeout 60;\n"
        f"client_body_temp_path {folder}/b; proxy_temp_path {folder}/p; fastcgi_temp_path "
        f"{folder}/f;\n"
        f"uwsgi_temp_path {folder}/u; scgi_temp_path {folder}/s; open_file_cache max=10;\n"
        f"server {{ listen 127.0.0.1:{port}; root {folder}; {more.replace('FOLDER', str(folder))} "
        f"}} }}\n"
    )
    return subprocess.Popen(
        [
            "taskset",
            "-c",
            "0",
            "/usr/sbin/nginx",
            "-c",
            str(folder / "nginx.conf"),
            "-p",
            str(folder),
        ],
        stderr=subprocess.DEVNULL,
    )


def c_loop(folder: Path) -> Path:
    """The C program, compiled."""
    made = folder / "epoll_loop"
    subprocess.run(
        ["gcc", "-O2", "-D_GNU_SOURCE", "-o", str(made), str(HERE / "epoll_loop.c")], check=True
    )
    return made


def rates_beside(
    commands: dict[str, list[str]], more: str = ""
) -> tuple[dict[str, list[float]], list[list[str]]]:
    """Exchanges per processor second of the C loop and of each command in each round, and all that
    the commands printed.

    A command gets the port as its last argument and prints exchanges and processor seconds first.
    """
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        port = next(port for port in range(18300, 18400) if is_free(port))
        loop = c_loop(folder)
        server = nginx(folder, port, more)
        every = {
            C_LOOP: [str(loop), str(port), str(USERS), str(SECONDS)],
            **{name: [*command, str(port)] for name, command in commands.items()},
        }
        rates: dict[str, list[float]] = {each: [] for each in every}
        printed = []
        try:
            wait_for_port(port, 5)
            for _ in range(ROUNDS):
                for each, command in every.items():
                    out = subprocess.run(
                        ["taskset", "-c", "1", *command], capture_output=True, text=True, check=True
                    ).stdout.split()
                    rates[each].append(int(out[0]) / float(out[1]))
                    printed.append(out)
        finally:
            server.terminate()
            server.wait()
    return rates, printed
