"""Many captures at once: what is told of them, going on where somebody stopped, and workers that end in the middle."""

import csv
import io
import json
import os
import shutil
import signal
import subprocess
import time
import unittest
from functools import partial
from pathlib import Path
from threading import Thread
from xml.etree import ElementTree

from hushed_wire.sweep import Journal, Swept, captures_in, causes_of, on_this_machine
from support import PROGRAM, demo, program, scratch


def folder_of(**captures: str) -> Path:
    """A folder with captures of the demo, by what they are called there."""
    out = scratch()
    for name, own in captures.items():
        place = out / f"{name.replace('__', '/')}.vcd"
        place.parent.mkdir(exist_ok=True)
        shutil.copy(demo() / own, place)
    return out


def looked(log: Path, path: str) -> Swept:
    """Stands in for a diagnosis: notes that it was asked; ends its process over whatever is called so."""
    with log.open("a") as file:
        file.write(f"{path}\n")
    if path.startswith("ends"):
        os._exit(1)
    return Swept(path, 0, "good")


def lost(path: str) -> Swept:
    """What is said of what was lost."""
    return Swept(path, 2, "lost")


class Reports(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = folder_of(
            monday__a="no-pump.vcd", monday__b="healthy.vcd", tuesday__c="no-pump.vcd", tuesday__d="swapped.vcd"
        )
        self.bad = self.folder / "tuesday" / "=1+1.csv"
        self.bad.write_text("hello\n")

    def test_in_each_format(self) -> None:
        text = program("sweep", str(self.folder))
        self.assertEqual(text.returncode, 1, text.stderr)
        self.assertIn("1 of 5 captures good, 3 with findings, 1 could not be read", text.stdout.decode())
        self.assertLess(text.stdout.index(b"2 of 5  setup.charge-pump-off"), text.stdout.index(b"1 of 5  wiring.swapped-lines"))
        told = json.loads(program("sweep", str(self.folder), "--format", "json").stdout)
        self.assertEqual([entry["status"] for entry in told["captures"]], [1, 0, 2, 1, 1])
        self.assertEqual([(cause["code"], cause["count"]) for cause in told["causes"]],
                         [("setup.charge-pump-off", 2), ("wiring.swapped-lines", 1), ("unusable", 1)])  # fmt: skip
        table = list(csv.DictReader(io.StringIO(program("sweep", str(self.folder), "--format", "csv").stdout.decode())))
        self.assertEqual([row["status"] for row in table], ["findings", "good", "unusable", "findings", "findings"])
        suite = ElementTree.fromstring(program("sweep", str(self.folder), "--format", "junit").stdout)
        self.assertEqual([suite.get(key) for key in ("tests", "failures", "errors")], ["5", "3", "1"])
        self.assertEqual(sum(case.find("error") is not None for case in suite), 1)

    def test_status_and_what_counts(self) -> None:
        good, bad = str(self.folder / "monday" / "b.vcd"), str(self.bad)
        for names, more, status in (
            ([good], (), 0),
            ([good, bad], (), 2),
            ([good, str(self.folder / "monday")], ("--fail-on", "never"), 0),
        ):
            self.assertEqual(program("sweep", *names, *more).returncode, status, names)

    def test_each_as_diagnosed_by_itself(self) -> None:
        rig = ("--rig", str(demo() / "front-desk.toml"))
        told = json.loads(program("sweep", str(self.folder), *rig, "--format", "json", "--workers", "2").stdout)
        for entry in told["captures"]:
            if entry["status"] < 2:
                alone = json.loads(program("diagnose", entry["path"], *rig, "--format", "json").stdout)
                self.assertEqual(entry["verdict"], alone["verdict"])
                self.assertEqual(entry["code"], alone["findings"][0]["code"] if entry["status"] else "")

    def test_bad_input_is_one_error(self) -> None:
        here = str(self.folder)
        for words, said in (
            (["nowhere"], "no such file"),
            ([here, "--resume", str(self.bad)], "no file of results"),
            ([str(scratch())], "holds no captures"),
            ([here, "--workers", "0"], "workers"),
            ([here, "--rig", "none.toml"], "none.toml"),
            ([here, "--cluster", "tcp://127.0.0.1:1"], "no scheduler answers"),
        ):
            done = program("sweep", *words)
            self.assertEqual(done.returncode, 2, words)
            self.assertIn(said, done.stderr.decode())
            self.assertLessEqual(len(done.stderr.splitlines()), 2)


class GoingOn(unittest.TestCase):
    def test_what_has_not_changed_is_not_looked_at_again(self) -> None:
        folder = folder_of(a="no-pump.vcd", b="healthy.vcd", c="swapped.vcd")
        kept = scratch() / "found.jsonl"
        first = program("sweep", str(folder), "--resume", str(kept), "--format", "json")
        lines = kept.read_bytes().splitlines(keepends=True)
        self.assertEqual(len(lines), 4)
        kept.write_bytes(b"".join(lines[:-1]) + lines[-1][:20])  # the plug was pulled
        shutil.copy(demo() / "healthy.vcd", folder / "a.vcd")
        again = program("sweep", str(folder), "--resume", str(kept), "--format", "json")
        after = kept.read_bytes().splitlines()
        self.assertEqual(
            len(after), len(lines) + 2, "two were looked at again: the one that changed, and the one that was cut off"
        )
        told = [[entry["status"] for entry in json.loads(done.stdout)["captures"]] for done in (first, again)]
        self.assertEqual(told, [[1, 0, 1], [0, 0, 1]])
        other = program("sweep", str(folder), "--resume", str(kept), "--fail-on", "never")
        self.assertEqual(other.returncode, 0, "what was found otherwise does not count")

    def test_a_journal_by_itself(self) -> None:
        folder = scratch()
        (folder / "x.vcd").write_text("x")
        found = (folder / "x.vcd").stat()
        kept = str(folder / "found.jsonl")
        Journal(kept, "so").add(Swept(str(folder / "x.vcd"), 0, "good", size=1, changed=found.st_mtime_ns))
        self.assertEqual([*Journal(kept, "so").known], [str(folder / "x.vcd")])
        self.assertEqual(Journal(kept, "otherwise").known, {})


class Workers(unittest.TestCase):
    def test_one_that_ends_loses_only_what_it_ended_over(self) -> None:
        log = scratch() / "log"
        things = [*(f"{k}" for k in range(10)), "ends", *(f"{k}" for k in range(10, 20))]
        told = list(on_this_machine(partial(looked, log), things, 2, lost))
        self.assertEqual(sorted(one.path for one in told), sorted(things))
        self.assertEqual([one.path for one in told if one.status == 2], ["ends"])

    def test_a_cluster_loses_nothing_when_a_worker_is_killed(self) -> None:
        from distributed import LocalCluster

        folder = scratch()
        for k in range(24):
            shutil.copy(demo() / ("no-pump.vcd" if k % 6 == 0 else "healthy.vcd"), folder / f"{k:02}.vcd")
        with LocalCluster(n_workers=2, threads_per_worker=1, processes=True, dashboard_address=None) as cluster:
            kept = folder / "found.jsonl"

            def kill() -> None:
                until = time.monotonic() + 60
                while time.monotonic() < until and (not kept.exists() or len(kept.read_bytes().splitlines()) < 3):
                    time.sleep(0.02)
                worker = next(iter(cluster.workers.values()))
                os.kill(worker.pid, signal.SIGKILL)

            killer = Thread(target=kill)
            killer.start()
            words = ["--cluster", cluster.scheduler_address, "--resume", str(kept), "--format", "json"]
            done = subprocess.run([str(PROGRAM), "sweep", str(folder), *words], capture_output=True, check=False)
            killer.join()
        told = json.loads(done.stdout)
        self.assertEqual([entry["status"] for entry in told["captures"]], [int(k % 6 == 0) for k in range(24)], done.stderr)


class Captures(unittest.TestCase):
    def test_folders_to_any_depth_each_file_once(self) -> None:
        folder = scratch()
        (folder / "deep" / ".hidden").mkdir(parents=True)
        for name in ("b.VCD", "a.csv.gz", "deep/c.npz", "deep/.hidden/d.vcd", ".e.vcd", "notes.md", "f.bin"):
            (folder / name).write_text("")
        os.mkfifo(folder / "pipe.vcd")
        (folder / "zero.vcd").symlink_to("/dev/zero")
        (folder / "loop").symlink_to(folder)
        own = [str(folder / name) for name in ("a.csv.gz", "b.VCD", "deep/c.npz")]
        self.assertEqual(captures_in([str(folder), own[0]]), own)
        self.assertEqual(captures_in([str(folder)], raw=True), [str(folder / "f.bin")])

    def test_causes_by_code_and_lines(self) -> None:
        swept = [
            Swept("a", 1, "", "x", lines=["S"]),
            Swept("b", 1, "", "x", lines=["T"]),
            Swept("c", 2, "?"),
            Swept("d", 1, "", "x", lines=["T"]),
        ]
        told = [(cause.code, cause.lines, [one.path for one in cause.captures]) for cause in causes_of(swept)]
        self.assertEqual(told, [("x", ["T"], ["b", "d"]), ("x", ["S"], ["a"]), ("unusable", [], ["c"])])


class Watching(unittest.TestCase):
    def test_it_looks_again_when_a_capture_is_written(self) -> None:
        folder = scratch()
        process = subprocess.Popen(
            [str(PROGRAM), "diagnose", str(folder), "--watch", "-q"], stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True
        )
        self.addCleanup(process.kill)
        assert process.stdout is not None
        said = []
        for name, source, wanted in (
            ("a.vcd", "healthy.vcd", "Nothing is wrong as far as it can be told"), ("b.vcd", "swapped.vcd", "SCL and SDA are exchanged"),
            ("a.vcd", "no-pump.vcd", "the charge pump is not switched on"),
        ):  # fmt: skip
            shutil.copy(demo() / source, folder / name)
            for line in process.stdout:
                said.append(line)
                if wanted in line:
                    break
            self.assertIn(wanted, said[-1])
        process.send_signal(signal.SIGINT)
        rest, _ = process.communicate(timeout=20)
        heads = [line for line in [*said, *rest.splitlines()] if line.startswith("── ")]
        self.assertEqual([Path(head.split(",")[0][3:]).name for head in heads], ["a.vcd", "b.vcd", "a.vcd"])
        self.assertEqual(process.returncode, 130)

    def test_what_cannot_be_watched(self) -> None:
        for name, said in (("-", b"read once"), ("none/x.vcd", b"does not exist")):
            done = program("diagnose", name, "--watch")
            self.assertEqual((done.returncode, said in done.stderr), (2, True), done.stderr)
