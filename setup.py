"""What is made while the package is built, from the parsers of its commands: the manual page, and what shells complete."""

import argparse
import sys
from pathlib import Path

from setuptools import setup
from setuptools.command.build_py import build_py

MADE = Path("build") / "made"
# Where systems look for them, below the place that the package is installed to.
SHARED = {
    "share/man/man1": ["*.1"],
    "share/bash-completion/completions": ["hushed-wire", "hwire"],
    "share/zsh/site-functions": ["_hushed-wire"],
    "share/fish/vendor_completions.d": ["hushed-wire.fish", "hwire.fish"],
}
NAMES = ["hushed-wire", "hwire"]


class Build(build_py):
    """Makes them ahead of everything else."""

    def run(self) -> None:
        make()
        self.distribution.data_files = [
            (place, [str(path) for name in names for path in sorted(MADE.glob(name))]) for place, names in SHARED.items()
        ]
        super().run()


def make() -> None:
    """Writes the files of SHARED."""
    import argcomplete
    from argparse_manpage.manpage import Manpage

    sys.path.insert(0, str(Path(__file__).parent / "src"))
    from hushed_wire.cli.main import COMMANDS, HEAD, Parser, overview, parser_for
    from hushed_wire.version import VERSION

    MADE.mkdir(parents=True, exist_ok=True)
    said = {"project_name": "Hushed Wire", "version": VERSION, "manual_section": "1", "manual_title": "Hushed Wire"}

    def write(page: str, parser: Parser, does: str, name: str) -> None:
        """A page; what stands below the options keeps its lines."""
        written = str(Manpage(parser, _data={**said, "description": does, "long_description": parser.description}))
        written = written.replace(".SH COMMENTS\n", ".SH EXAMPLES\n.nf\n").replace(f"{page}\n[".replace("-", "\\-"), f"{name}\n[")
        (MADE / f"{page}.1").write_text(written, encoding="utf-8")

    usage, lines = "hushed-wire COMMAND [ARGUMENT …]", argparse.RawDescriptionHelpFormatter
    whole = Parser(prog="hushed-wire", usage=usage, description=HEAD, formatter_class=lines)
    whole.epilog = overview().partition("\n\n")[2].partition("\n\n")[2]
    write("hushed-wire", whole, HEAD, "hushed-wire")
    (MADE / "hwire.1").write_text(".so man1/hushed-wire.1\n", encoding="utf-8")
    for _, name, text in COMMANDS:
        parser = parser_for(name)
        parser.prog = f"hushed-wire-{name}"  # the page's name; the command is written with a blank
        parser.epilog = "\n".join(part for part in (parser.epilog, parser.more) if part)
        write(f"hushed-wire-{name}", parser, text, f"hushed-wire {name}")
    for name in NAMES:
        (MADE / name).write_text(argcomplete.shellcode([name], shell="bash"), encoding="utf-8")
        (MADE / f"{name}.fish").write_text(argcomplete.shellcode([name], shell="fish"), encoding="utf-8")
    (MADE / "_hushed-wire").write_text(argcomplete.shellcode(NAMES, shell="zsh"), encoding="utf-8")


if __name__ == "__main__":
    setup(cmdclass={"build_py": Build})
