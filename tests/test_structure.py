"""The house: imports point one way, the core has no interface, start-up stays light."""

import ast
import functools
import re
import subprocess
import sys
import tomllib
import unittest
from collections.abc import Iterator
from importlib import metadata
from pathlib import Path

from hushed_wire.cli.main import COMMANDS
from hushed_wire.version import VERSION
from support import PROGRAM, ROOT, demo, scratch

SOURCE = ROOT / "src" / "hushed_wire"
# From the top to the bottom; packages in one group do not see each other.
LAYERS = [
    {"cli"}, {"view", "demo"}, {"__init__"}, {"library"},
    {"comparison", "diagnosis", "link", "port", "sweep", "unravel"}, {"rig"}, {"sequence"}, {"picture"}, {"part"}, {"bus"}, {"trace"},
    {"finding", "grades", "extras", "compiled", "units", "errors", "room", "harmless", "small_file", "written_file", "version", "lazy", "project"},
]  # fmt: skip
RANK = {name: rank for rank, group in enumerate(LAYERS) for name in group}


def imports_of(path: Path) -> list[tuple[str, str]]:
    """(package that imports, package imported) for every import of our own in a file, wherever it stands."""
    parts = path.relative_to(SOURCE).with_suffix("").parts
    own, out = parts[0], []
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.ImportFrom) and node.level:
            base = list(parts[: len(parts) - node.level])
            names = [*base, *(node.module.split(".") if node.module else [])]
            out += [(own, name) for name in ([names[0]] if names else [alias.name for alias in node.names])]
    return out


@functools.cache
def homes_of(package: Path) -> dict[str, Path]:
    """The modules in which the names live that a package offers."""
    return {
        alias.name: package / f"{own.module}.py"
        for own in ast.walk(ast.parse((package / "__init__.py").read_text()))
        if isinstance(own, ast.ImportFrom) and own.level == 1 and own.module
        for alias in own.names
    }


def modules_of(path: Path) -> Iterator[Path]:
    """The modules of our own whose names a module imports, wherever it does; names of a package are looked up where they live."""
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.ImportFrom) and node.level:
            folder = path.parents[node.level - 1].joinpath(*(node.module or "").split("."))
            if folder.with_suffix(".py").is_file():
                yield folder.with_suffix(".py")
                continue
            homes = homes_of(folder)
            for alias in node.names:
                submodule = folder / f"{alias.name}.py"
                home = submodule if submodule.is_file() else homes.get(alias.name)
                if home is not None and home.is_file():
                    yield home


BRANCHES = (ast.If, ast.IfExp, ast.For, ast.While, ast.ExceptHandler, ast.comprehension)


# Makes every parser and its help where no module can be had that is neither ours nor Python's.
BARE = """
import sys
class Only:
    def find_spec(self, name, path=None, target=None):
        if name.split(".")[0] not in {*sys.stdlib_module_names, "hushed_wire"}:
            raise ImportError(f"{name} is no part of Python")
sys.meta_path.insert(0, Only())
from hushed_wire.cli.main import COMMANDS, parser_for, whole_parser
for _, name, _ in COMMANDS:
    parser = parser_for(name)
    assert parser.format_help() and parser.format_all()
    print(name)
whole_parser()
"""


class Structure(unittest.TestCase):
    def test_no_function_is_a_table_in_disguise(self) -> None:
        for path in SOURCE.rglob("*.py"):
            for node in ast.walk(ast.parse(path.read_text())):
                if isinstance(node, ast.FunctionDef):
                    branches = sum(isinstance(inner, BRANCHES) for inner in ast.walk(node))
                    self.assertLessEqual(branches, 20, f"{path.relative_to(SOURCE)}: {node.name}")

    def test_imports_point_one_way(self) -> None:
        seen = 0
        for path in SOURCE.rglob("*.py"):
            if path.name == "__main__.py":
                continue
            for own, other in imports_of(path):
                seen += 1
                allowed = own == other or RANK[own] < RANK[other] or RANK[own] == RANK[other] == len(LAYERS) - 1
                self.assertTrue(allowed, f"{path.relative_to(ROOT)}: {own} imports {other}")
        self.assertGreater(seen, 100)

    def test_no_module_needs_one_that_needs_it(self) -> None:
        """Not even where it is imported: in a function, or for types alone."""
        needs = {path: set(modules_of(path)) for path in SOURCE.rglob("*.py") if path.name != "__init__.py"}
        self.assertGreater(sum(map(len, needs.values())), 400)
        sound: set[Path] = set()
        while True:  # what needs nothing but sound modules is sound
            more = {path for path in needs if path not in sound and needs[path] <= sound | {path}}
            if not more:
                break
            sound |= more
        self.assertEqual(sorted(str(path.relative_to(SOURCE)) for path in set(needs) - sound), [])

    def test_only_the_interface_prints_and_parses_arguments(self) -> None:
        for path in SOURCE.rglob("*.py"):
            if path.relative_to(SOURCE).parts[0] in ("cli", "view", "__main__.py"):
                continue
            for node in ast.walk(ast.parse(path.read_text())):
                if isinstance(node, ast.Call) and isinstance(node.func, ast.Name):
                    self.assertNotIn(node.func.id, ("print", "input"), str(path))
                if isinstance(node, ast.Import | ast.ImportFrom):
                    names = [alias.name for alias in node.names] + [getattr(node, "module", "") or ""]
                    for name in ("argparse", "rich", "matplotlib", "sys"):
                        self.assertNotIn(name, [n.split(".")[0] for n in names], str(path))

    def test_help_and_version_import_nothing_heavy(self) -> None:
        code = "import sys; from hushed_wire.cli.main import main; main([sys.argv[1]]); print(*sys.modules, file=sys.stderr)"
        for option in ("--help", "--version"):
            done = subprocess.run([sys.executable, "-c", code, option], capture_output=True, text=True, check=True)
            loaded = {name.split(".")[0] for name in done.stderr.split()}
            heavy = {"numpy", "pandas", "scipy", "matplotlib", "rich", "msgspec", "PIL", "quantiphy", "argcomplete", "jinja2"}
            self.assertFalse(heavy & loaded, option)

    def test_parsers_are_made_by_the_standard_library_alone(self) -> None:
        """So that the package is built with its pages, and help is there, where nothing else is installed yet."""
        done = subprocess.run([sys.executable, "-c", BARE], capture_output=True, text=True, check=False)
        self.assertEqual(done.stderr, "")
        self.assertEqual(done.stdout.split(), [name for _, name, _ in COMMANDS])

    def test_a_module_that_parsers_may_not_load_is_seen(self) -> None:
        done = subprocess.run([sys.executable, "-c", BARE + "import numpy"], capture_output=True, text=True, check=False)
        self.assertIn("numpy is no part of Python", done.stderr)

    def test_the_version_stands_once(self) -> None:
        self.assertIn('version = { attr = "hushed_wire.version.VERSION" }', (ROOT / "pyproject.toml").read_text())
        self.assertEqual(metadata.version("hushed-wire"), VERSION)

    def test_packages_that_are_extras_are_imported_where_their_absence_is_told(self) -> None:
        project = tomllib.loads((ROOT / "pyproject.toml").read_text())["project"]
        base = {re.split(r"[\[>]", one)[0] for one in project["dependencies"]}
        names = {"pillow": "PIL", "tomli-w": "tomli_w"}
        known = {names.get(one, one) for one in base} | {"hushed_wire", *sys.stdlib_module_names}
        extras = {"matplotlib", "distributed", "smbus2", "spidev", "gpiod", "serial"}
        outside = set()
        for path in SOURCE.rglob("*.py"):
            for node in ast.walk(ast.parse(path.read_text())):
                modules = [alias.name for alias in node.names] if isinstance(node, ast.Import) else []
                modules += [node.module or ""] if isinstance(node, ast.ImportFrom) and not node.level else []
                outside |= {name for module in modules if (name := module.split(".")[0]) not in known}
        self.assertEqual(outside - extras, set())
        for name in base - {"argcomplete"}:
            self.assertTrue(
                any(re.search(rf"(import|from) {names.get(name, name)}\b", path.read_text()) for path in SOURCE.rglob("*.py")),
                name,
            )

    def test_commands_that_look_up_and_build_load_no_numpy(self) -> None:
        code = "import sys; from hushed_wire.cli.main import main; main(sys.argv[1:]); print('numpy' in sys.modules, file=sys.stderr)"
        short = scratch() / "short.hush"
        short.write_text("display off\nmultiplex-ratio 64\ncharge-pump on\ndisplay on\n")
        rig = ("--rig", str(demo() / "front-desk.toml"))
        for words in (
            ("catalog",), ("catalog", "st7789"), ("explain", "ssd1306", "AE"), ("build", str(short), "--part", "ssd1306"),
            ("build", str(short), *rig), ("scan", *rig), ("send", str(short), *rig, "--link", "desk"),
        ):  # fmt: skip
            done = subprocess.run([sys.executable, "-c", code, *words], capture_output=True, text=True, check=True)
            self.assertEqual(done.stderr.split()[-1], "False", words)

    def test_a_decode_loads_no_more_than_it_needs(self) -> None:
        code = (
            "import sys; from hushed_wire.cli.main import main; main(['decode', sys.argv[1], '--format', 'jsonl']);"
            "print(*sys.modules, file=sys.stderr)"
        )
        done = subprocess.run(
            [sys.executable, "-c", code, str(demo() / "shifted.vcd")], capture_output=True, text=True, check=True
        )
        loaded = {name.split(".")[0] for name in done.stderr.split()}
        self.assertFalse({"pandas", "scipy", "matplotlib", "PIL"} & loaded)

    def test_both_names_of_the_program_run(self) -> None:
        for name in ("hushed-wire", "hwire"):
            done = subprocess.run([str(PROGRAM.parent / name), "--version"], capture_output=True, text=True, check=True)
            self.assertRegex(done.stdout, r"^hushed-wire \d+\.\d+\.\d+\n$")
