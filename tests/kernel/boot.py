"""Debian's kernels, booted in an emulated machine with the program in their initramfs: it meets real device files there.

    boot.py [amd64] [arm64] [-o LOG]        make kernel

Kernels, interpreter and libraries are Debian's packages, the program's own come from the package index; all of it is kept in build/kernel. Nothing
of the machine is reached but its serial console, and of arm64's GPIO controller the outputs, which the emulator traces: they are made a
capture (`wires.py`), and the program decodes what the kernel put on the wires.
"""

from __future__ import annotations

import argparse
import os
import re
import shutil
import subprocess
import sys
from dataclasses import dataclass
from pathlib import Path

import wires

HERE = Path(__file__).parent
ROOT = HERE.parent.parent
BUILD = ROOT / "build" / "kernel"
PROGRAM = Path(sys.executable).parent / "hushed-wire"
LIMIT = 900  # seconds that a machine may take: it is emulated
LIBRARIES = [
    *(
        "python3.11-minimal",
        "libpython3.11-minimal",
        "libpython3.11-stdlib",
        "libc6",
        "libexpat1",
        "zlib1g",
        "libssl3",
        "libffi8",
    ),
    *("libbz2-1.0", "liblzma5", "libuuid1", "libcrypt1", "libstdc++6", "libgcc-s1"),
]
PACKAGES = ["numpy", "msgspec", "quantiphy", "rich", "argcomplete", "smbus2", "gpiod", "pyserial", "pillow"]


@dataclass(frozen=True)
class Machine:
    """arch: Debian's name. wheels: the package index's. command: how the emulator is started. modules: in the order of loading, with options.

    kernel: the package that stands for the newest kernel. more: other packages that the program uses there.
    """

    arch: str
    wheels: str
    kernel: str
    command: tuple[str, ...]
    console: str
    modules: tuple[str, ...]
    more: tuple[str, ...] = ()


MACHINES = {
    "amd64": Machine(
        "amd64",
        "x86_64",
        "linux-image-amd64",
        ("qemu-system-x86_64", "-M", "q35", "-cpu", "max"),
        "ttyS0",
        ("i2c-dev", "i2c-stub chip_addr=0x3d,0x23"),
    ),
    "arm64": Machine(
        "arm64",
        "aarch64",
        "linux-image-arm64",
        ("qemu-system-aarch64", "-M", "virt", "-cpu", "cortex-a53"),
        "ttyAMA0",
        ("i2c-dev",),
        ("python3-spidev",),
    ),
}


def run(*command: str | Path, **more: object) -> str:
    """A command that has to work; what it printed."""
    done = subprocess.run([str(word) for word in command], capture_output=True, text=True, check=False, **more)  # type: ignore[call-overload]
    if done.returncode:
        raise SystemExit(f"{' '.join(map(str, command))}: {done.stderr[-2000:] or done.stdout[-2000:]}")
    return str(done.stdout)


def needed(machines: list[Machine]) -> None:
    """Raises SystemExit where a program is missing, with the packages that bring it."""
    tools = {machine.command[0] for machine in machines} | {"cpio", "dpkg-deb", "apt-get", "dtc", "fdtoverlay"}
    missing = sorted(tool for tool in tools if shutil.which(tool) is None)
    if missing:
        raise SystemExit(
            f"{', '.join(missing)}: not here; on Debian: apt-get install qemu-system-x86 qemu-system-arm cpio device-tree-compiler"
        )


def fetched(machine: Machine) -> Path:
    """A folder with kernel (`boot`, `lib/modules`) and everything that the program needs to run, made once."""
    folder = BUILD / machine.arch
    if (folder / "done").exists():
        return folder
    shutil.rmtree(folder, ignore_errors=True)
    (folder / "packages").mkdir(parents=True)
    foreign = machine.arch != run("dpkg", "--print-architecture").strip()
    if foreign and machine.arch not in run("dpkg", "--print-foreign-architectures").split():
        run("dpkg", "--add-architecture", machine.arch)
        run("apt-get", "update")
    real = re.findall(r"Depends: (linux-image-\S+)", run("apt-cache", "depends", f"{machine.kernel}:{machine.arch}"))[0].split(
        ":"
    )[0]
    names = [real, "busybox-static", *LIBRARIES, *machine.more]
    run("apt-get", "download", *(f"{name}:{machine.arch}" for name in names), cwd=folder / "packages")
    for package in sorted((folder / "packages").iterdir()):
        run("dpkg-deb", "-x", package, folder / ("kernel" if package.name.startswith("linux-image") else "root"))
    wheels = [
        word
        for kind in ("manylinux2014", "manylinux_2_17", "manylinux_2_28")
        for word in ("--platform", f"{kind}_{machine.wheels}")
    ]
    where = folder / "root" / "site"
    run(
        sys.executable,
        "-m",
        "pip",
        "install",
        "-q",
        "--target",
        where,
        *wheels,
        "--python-version",
        "3.11",
        "--only-binary=:all:",
        *PACKAGES,
    )
    shutil.rmtree(folder / "packages")
    (folder / "done").touch()
    return folder


def packed(machine: Machine, folder: Path) -> Path:
    """The initramfs: what was fetched, the program as it stands, the demo's files, the kernel's modules, and what is done."""
    root = folder / "root"
    shutil.rmtree(root / "site" / "hushed_wire", ignore_errors=True)
    shutil.copytree(ROOT / "src" / "hushed_wire", root / "site" / "hushed_wire", ignore=shutil.ignore_patterns("__pycache__"))
    shutil.rmtree(root / "work", ignore_errors=True)
    shutil.copytree(ROOT / "src" / "hushed_wire" / "demo" / "files", root / "work")
    for file in (*HERE.glob("*.toml"), HERE / f"{machine.arch}.sh"):
        shutil.copy(file, root / "work")
    shutil.rmtree(root / "modules", ignore_errors=True)
    (root / "modules").mkdir()
    for path in (folder / "kernel" / "lib" / "modules").rglob("*.ko*"):
        if path.parent.name in ("algos", "i2c", "busses", "spi", "i2c-stub"):
            shutil.copy(path, root / "modules")
    for name in ("proc", "sys", "dev", "tmp"):
        (root / name).mkdir(exist_ok=True)
    loading = "\n".join(f"load {words}" for words in machine.modules)
    (root / "init").write_text((HERE / "init.sh").read_text().replace("@LOAD@", loading).replace("@ARCH@", machine.arch))
    (root / "init").chmod(0o755)
    out = folder / "initramfs"
    names = "\n".join(str(path.relative_to(root)) for path in sorted(root.rglob("*")) if "/doc/" not in str(path))
    with out.open("wb") as file:
        subprocess.run(["cpio", "-o", "-H", "newc", "--quiet"], cwd=root, input=names.encode(), stdout=file, check=True)
    return out


def booted(machine: Machine, folder: Path) -> str:
    """What the machine said on its console, from where the work begins."""
    image = next((folder / "kernel" / "boot").glob("vmlinuz-*"))
    command = [*machine.command, "-m", "1024", "-nographic", "-no-reboot", "-nic", "none"]
    trace = folder / "trace.log"
    trace.unlink(missing_ok=True)
    if machine.arch == "arm64":
        tree = folder / "machine.dtb"
        run(*command, "-M", f"virt,dumpdtb={tree}")
        source = run("dtc", "-q", "-I", "dtb", "-O", "dts", tree)
        phandle = re.search(r"pl061@.*?phandle = <(0x[0-9a-f]+)>", source, re.DOTALL)
        assert phandle is not None
        overlay = (HERE / "wires.dtso").read_text().replace("@GPIO@", phandle[1])
        run("dtc", "-q", "-I", "dts", "-O", "dtb", "-o", folder / "overlay.dtbo", "-", input=overlay)
        run("fdtoverlay", "-i", tree, "-o", folder / "whole.dtb", folder / "overlay.dtbo")
        command += ["-dtb", str(folder / "whole.dtb")]
        command += ["-d", "trace:pl061_set_output,trace:pl061_update", "-D", str(trace), "-msg", "timestamp=on"]
    command += ["-kernel", str(image), "-initrd", str(folder / "initramfs")]
    command += ["-append", f"console={machine.console} quiet panic=-1 rdinit=/init"]
    done = subprocess.run(command, capture_output=True, stdin=subprocess.DEVNULL, timeout=LIMIT, check=False)
    text = done.stdout.decode("utf-8", "replace").replace("\r", "")
    _, begun, said = text.partition("==== begun\n")
    said, ended, _ = said.partition("==== ended\n")
    if not begun or not ended:
        raise SystemExit(f"{machine.arch}: the machine did not do its work:\n{text[-4000:]}{done.stderr.decode()[-2000:]}")
    return said


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("machines", nargs="*", choices=[*MACHINES, []], help="default: all")
    parser.add_argument("-o", "--output", type=Path, default=BUILD / "log.txt")
    args = parser.parse_args()
    machines = [MACHINES[name] for name in args.machines or MACHINES]
    needed(machines)
    log = []
    for machine in machines:
        folder = fetched(machine)
        packed(machine, folder)
        said = booted(machine, folder)
        if machine.arch == "arm64":
            said += wires.decoded(folder / "trace.log", folder, [str(PROGRAM)])
        print(said, flush=True)
        log.append(f"## {machine.arch}\n\n{said}")
    args.output.parent.mkdir(parents=True, exist_ok=True)
    args.output.write_text("\n".join(log))
    wrong = re.findall(r"^WRONG: .*$", "\n".join(log), re.MULTILINE)
    print(f"{len(machines)} kernels, {len(wrong)} things not as they should be; the log is {os.path.relpath(args.output)}")
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main())
