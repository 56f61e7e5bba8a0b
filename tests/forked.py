"""The installed program, run many times: a process that has imported it forks for every run, so that each is a process of its own, with its own
arguments, folder, streams and exit status, and none has to import everything again.

What a run imported that the forking process did not have, that imports before the next one.
"""

from __future__ import annotations

import atexit
import json
import os
import subprocess
import sys
import tempfile
from pathlib import Path
from typing import Any

__all__ = ["run"]

SERVER = r"""
import importlib, json, os, signal, sys

LONGEST = 120  # seconds

def child(job):
    for number, (path, flags) in enumerate(((job["in"], os.O_RDONLY), (job["out"], os.O_WRONLY), (job["err"], os.O_WRONLY))):
        opened = os.open(path, flags)
        os.dup2(opened, number)
        os.close(opened)
    os.chdir(job["cwd"])
    os.environ.clear()
    os.environ.update(job["env"])
    signal.signal(signal.SIGINT, signal.default_int_handler)
    signal.alarm(LONGEST)  # what hangs ends by it
    before = set(sys.modules)
    sys.stdin, sys.stdout, sys.stderr = (open(number, mode, closefd=False) for number, mode in ((0, "r"), (1, "w"), (2, "w")))
    sys.__stdout__, sys.__stderr__, sys.__stdin__ = sys.stdout, sys.stderr, sys.stdin
    sys.argv = [job["argv0"], *job["argv"]]
    try:
        from hushed_wire.cli.main import main
        sys.exit(main())
    finally:
        with open(job["new"], "w") as file:
            file.write("\n".join(sorted(set(sys.modules) - before)))

requests, answers = os.fdopen(int(sys.argv[1]), "r"), os.fdopen(int(sys.argv[2]), "w")
for line in requests:
    job = json.loads(line)
    pid = os.fork()
    if not pid:
        requests.close(); answers.close()
        child(job)
    _, status = os.waitpid(pid, 0)
    answers.write(f"{os.waitstatus_to_exitcode(status)}\n")
    answers.flush()
    for name in open(job["new"]).read().split():
        if name.partition(".")[0] != "__main__":
            try:
                importlib.import_module(name)
            except Exception:
                pass
"""


class Server:
    """The process that forks, and the files that its runs read and write."""

    def __init__(self) -> None:
        self.folder = tempfile.TemporaryDirectory(prefix="hushed-wire-runs-")
        mine, theirs = os.pipe(), os.pipe()
        environment = {**os.environ, "OPENBLAS_NUM_THREADS": "1", "OMP_NUM_THREADS": "1"}
        self.process = subprocess.Popen(
            [sys.executable, "-c", SERVER, str(mine[0]), str(theirs[1])],
            pass_fds=(mine[0], theirs[1]),
            env=environment,
            stdin=subprocess.DEVNULL,
        )
        os.close(mine[0])
        os.close(theirs[1])
        self.requests, self.answers = os.fdopen(mine[1], "w"), os.fdopen(theirs[0])
        atexit.register(self.stop)

    def run(self, argv0: str, words: tuple[str, ...], cwd: Path, stdin: bytes | None) -> subprocess.CompletedProcess[bytes]:
        """One run."""
        files = {name: Path(self.folder.name) / name for name in ("in", "out", "err", "new")}
        for path in files.values():
            path.write_bytes(b"")
        files["in"].write_bytes(stdin or b"")
        job: dict[str, Any] = {name: str(path) for name, path in files.items()}
        job |= {"argv0": argv0, "argv": list(words), "cwd": str(cwd), "env": dict(os.environ)}
        self.requests.write(json.dumps(job) + "\n")
        self.requests.flush()
        answer = self.answers.readline()
        if not answer:
            raise RuntimeError("the forking process ended")
        return subprocess.CompletedProcess(words, int(answer), files["out"].read_bytes(), files["err"].read_bytes())

    def stop(self) -> None:
        """Lets it end."""
        self.requests.close()
        self.process.wait()
        self.folder.cleanup()


_server: Server | None = None


def run(argv0: str, words: tuple[str, ...], cwd: Path, stdin: bytes | None) -> subprocess.CompletedProcess[bytes]:
    """Runs the program with these words; the same as `subprocess.run` of it with its output captured."""
    global _server
    if _server is None:
        _server = Server()
    return _server.run(argv0, words, cwd, stdin)
