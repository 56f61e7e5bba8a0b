"""The first minute, as users have it: built and installed with isolation into environments that are empty, with an empty cache, by every Python
that is to be had, from the folder, the wheel and the sdist, by pip, pipx and uv.

`make package` runs it, with nothing but the interpreter: python3 tests/installs.py [TEST …]
"""

import functools
import os
import re
import shutil
import subprocess
import sys
import tempfile
import time
import unittest
from pathlib import Path
from unittest import mock

ROOT = Path(__file__).parent.parent
OLDEST, NEWEST = 11, 15  # of Python 3, as far as one looks
WORK = Path(tempfile.mkdtemp(prefix="hushed-wire-installs-"))
MEGABYTE = 1 << 20
SHARED = (
    "share/man/man1/hushed-wire.1", "share/man/man1/hwire.1", "share/man/man1/hushed-wire-diagnose.1", "share/bash-completion/completions/hushed-wire",
    "share/zsh/site-functions/_hushed-wire", "share/fish/vendor_completions.d/hwire.fish",
)  # fmt: skip


def run(*words: str | Path, cwd: Path = WORK, status: int = 0, **more: str) -> str:
    """Runs a command with a cache of our own, as whoever has no environment active; returns all that it says."""
    kept = {key: value for key, value in os.environ.items() if not key.startswith(("VIRTUAL_ENV", "PYTHON", "MAKE", "MFLAGS"))}
    own = {
        **kept,
        "PIP_CACHE_DIR": str(WORK / "pip-cache"),
        "UV_CACHE_DIR": str(WORK / "uv-cache"),
        "PIP_DISABLE_PIP_VERSION_CHECK": "1",
        **more,
    }
    done = subprocess.run(
        list(map(str, words)), cwd=cwd, env=own, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True, check=False
    )
    if done.returncode != status:
        raise AssertionError(f"{' '.join(map(str, words))}: status {done.returncode}\n{done.stdout[-4000:]}")
    return done.stdout


@functools.cache
def pythons() -> dict[str, str]:
    """Every Python that may serve, by its version."""
    places = [sys.executable]
    for minor in range(OLDEST, NEWEST):
        places += [
            shutil.which(f"python3.{minor}") or "",
            *map(str, Path.home().glob(f".pyenv/versions/3.{minor}.*/bin/python3")),
        ]
    found: dict[str, str] = {}
    for place in filter(None, places):
        asked = [place, "-c", "import ensurepip, sys, venv; print('%d.%d' % sys.version_info[:2])"]
        done = subprocess.run(asked, capture_output=True, text=True, check=False)
        if done.returncode == 0 and int(done.stdout.split(".")[1]) >= OLDEST:
            found.setdefault(done.stdout.strip(), place)
    return found


@functools.cache
def source() -> Path:
    """A clean copy of what git knows, or would be told."""
    listed = subprocess.run(
        ["git", "ls-files", "-z", "--cached", "--others", "--exclude-standard"],
        cwd=ROOT,
        capture_output=True,
        text=True,
        check=True,
    )
    folder = WORK / "source"
    for name in filter(None, listed.stdout.split("\0")):
        if (ROOT / name).is_file():
            (folder / name).parent.mkdir(parents=True, exist_ok=True)
            shutil.copy2(ROOT / name, folder / name)
    return folder


@functools.cache
def built() -> tuple[Path, Path]:
    """The wheel and the sdist, from a copy of their own, built with isolation."""
    copy = WORK / "built"
    shutil.copytree(source(), copy)
    tools = empty(sys.executable, "tools")
    run(tools / "pip", "install", "-q", "build", "twine")
    said = run(tools / "python", "-m", "build", copy)
    warned = [line for line in said.splitlines() if re.search(r"deprecat|warning", line, re.IGNORECASE)]
    assert not warned, "\n".join(warned)
    wheel, sdist = next((copy / "dist").glob("*.whl")), next((copy / "dist").glob("*.tar.gz"))
    run(tools / "twine", "check", "--strict", wheel, sdist)
    return wheel, sdist


def empty(python: str, name: str) -> Path:
    """The folder of programs of an environment that holds nothing but pip."""
    shutil.rmtree(WORK / name, ignore_errors=True)
    run(python, "-m", "venv", WORK / name)
    return WORK / name / "bin"


def size(folder: Path) -> float:
    """In MB."""
    return sum(path.stat().st_size for path in folder.rglob("*") if path.is_file() and not path.is_symlink()) / MEGABYTE


class Installed(unittest.TestCase):
    """Each way, by each Python."""

    def works(self, programs: Path, name: str, prefix: Path | None = None, tour: bool = True) -> None:
        """Its pages are there, it runs the demo and finds its fault, and what is missing is said with the command that brings it. tour: all of the demo."""
        for shared in SHARED:
            self.assertTrue(((prefix or programs.parent) / shared).is_file(), f"{name}: {shared}")
        for program in ("hushed-wire", "hwire"):
            self.assertRegex(run(programs / program, "--version"), r"^hushed-wire \d+\.\d+\.\d+\n$")
        demo = WORK / f"demo {name}"
        toured = run(programs / "hushed-wire", "demo", demo, *(() if tour else ("--no-tour",)))
        self.assertEqual("setup.charge-pump-off" in toured, tour)
        self.assertNotIn("Traceback", toured)
        self.assertIn("charge pump", run(programs / "hushed-wire", "diagnose", "no-pump.vcd", cwd=demo, status=1))
        run(programs / "hushed-wire", "diagnose", "healthy.vcd", "--rig", "front-desk.toml", cwd=demo)
        run(programs / "hushed-wire", "lines", "healthy-volts.csv.gz", cwd=demo)
        self.figures(programs, demo)

    def figures(self, programs: Path, demo: Path) -> None:
        """What wants Matplotlib says what brings it, which then does; and says so before it reads anything."""
        plot = (programs / "hushed-wire", "plot", "healthy.vcd", "-o", "plot.png")
        said = run(*plot, cwd=demo, status=2)
        self.assertIn("figures want the package matplotlib", said)
        self.assertIn(
            "matplotlib", run(programs / "hushed-wire", "diagnose", "absent.vcd", "--report", "page.html", cwd=demo, status=2)
        )
        self.assertFalse((demo / "plot.png").exists())
        command = said.splitlines()[-1].strip()
        run("sh", "-c", command)
        run(*plot, cwd=demo)
        self.assertEqual((demo / "plot.png").read_bytes()[:4], b"\x89PNG")

    def test_wheel_and_sdist_by_every_python(self) -> None:
        wheel, sdist = built()
        for version, python in pythons().items():
            for what in (wheel, sdist):
                with self.subTest(python=version, what=what.name):
                    programs = empty(python, f"by {version}")
                    begin, before = time.monotonic(), size(programs.parent)
                    run(programs / "pip", "install", what)
                    took = time.monotonic() - begin
                    print(f"Python {version}, {what.name}: {took:.0f} s, {size(programs.parent) - before:.0f} MB", flush=True)
                    self.works(programs, f"{version} {what.suffix}", tour=what == wheel)

    def test_readme_start(self) -> None:
        """Its commands, in this order; `make test` is run by .ci/run itself, from a clean clone."""
        start = (ROOT / "README.md").read_text().partition("\n## Start\n")[2].partition("```sh\n")[2].partition("```")[0]
        commands = [line.partition("#")[0].strip() for line in start.splitlines()]
        self.assertEqual(commands, ["make demo", "make test", "pip install ."])
        shutil.copytree(source(), WORK / "start")
        begin = time.monotonic()
        toured = run("make", "demo", f"PYTHON={sys.executable}", cwd=WORK / "start")
        print(f"make demo: {time.monotonic() - begin:.0f} s", flush=True)
        self.assertNotIn("Figures are left out", toured)
        self.assertIn("plot.png", toured)
        self.assertNotIn("Traceback", toured)
        programs = empty(sys.executable, "plain")
        begin = time.monotonic()
        run(programs / "pip", "install", "--no-cache-dir", ".", cwd=WORK / "start")
        print(f"pip install . without a cache: {time.monotonic() - begin:.0f} s", flush=True)
        self.works(programs, "plain", tour=False)

    def test_extras_of_the_readme(self) -> None:
        programs = empty(sys.executable, "figures")
        run(programs / "pip", "install", f"{built()[0]}[figures,farm]")
        self.assertIn("plot.png", run(programs / "hushed-wire", "demo", WORK / "demo figures", "--long"))

    def test_by_pipx_and_uv(self) -> None:
        tools = empty(sys.executable, "installers")
        run(tools / "pip", "install", "-q", "pipx", "uv")
        homes = {"PIPX_HOME": str(WORK / "pipx"), "PIPX_BIN_DIR": str(WORK / "pipx-bin"), "PIPX_MAN_DIR": str(WORK / "pipx-man"),
                 "UV_TOOL_DIR": str(WORK / "uv"), "UV_TOOL_BIN_DIR": str(WORK / "uv-bin"), "PATH": f"{tools}:{os.environ['PATH']}"}  # fmt: skip
        self.enterContext(mock.patch.dict(os.environ, homes))
        for tool, words in (("pipx", ("install",)), ("uv", ("tool", "install", "--python", sys.executable))):
            with self.subTest(tool):
                begin = time.monotonic()
                run(tools / tool, *words, ".", cwd=source())
                print(f"{tool} {words[0]} … .: {time.monotonic() - begin:.0f} s", flush=True)
                home = WORK / tool / "hushed-wire" if tool == "uv" else WORK / "pipx" / "venvs" / "hushed-wire"
                self.works(WORK / f"{tool}-bin", tool, home, tour=False)


if __name__ == "__main__":
    try:
        print(f"Pythons: {', '.join(pythons())}", flush=True)
        told = unittest.main(exit=False, verbosity=2).result
    finally:
        shutil.rmtree(WORK, ignore_errors=True)
    failed = len(told.failures) + len(told.errors)
    print(f"{told.testsRun - failed} passed, {failed} failed", flush=True)
    sys.exit(1 if failed else 0)
