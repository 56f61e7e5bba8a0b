# PYTHON_ARGCOMPLETE_OK
"""The command line. Only the named command's module is loaded, and that loads the core only when it runs."""

from __future__ import annotations

import argparse
import gc
import importlib
import os
import re
import signal
import stat
import sys
from collections.abc import Sequence
from typing import Any, NoReturn

from ..errors import HushedError, nearest
from ..extras import PackageMissing
from ..harmless import in_one_line
from ..small_file import READ
from ..version import VERSION
from . import project_options

# Commands are short or work in large arrays: the collector has little to find, and looking costs a tenth of the start-up.
gc.set_threshold(100_000, 50, 50)

__all__ = ["brings", "main", "overview", "parser_for", "whole_parser"]

# In the order of the work: group, command, what it does. The module of a command bears its name.
COMMANDS: list[tuple[str, str, str]] = [
    ("wire up", "lines", "what is on each line: activity, idle level, rates, shortest pulse, likely role"),
    ("wire up", "wiring", "can this wiring work? wire list, what to probe, and what is wrong with a rig"),
    ("wire up", "links", "live buses within reach, and what each can do"),
    ("wire up", "scan", "which addresses answer, on a bus or in a capture, and what each could be"),
    ("bring up", "catalog", "the parts known, or one part's commands, memory, timing, ready bring-up"),
    ("bring up", "explain", "what these bytes mean to a part"),
    ("bring up", "build", "checks a sequence, and lists or writes its words"),
    ("bring up", "rehearse", "the capture that a sequence should give on a rig, as a file, with mishaps on request"),
    ("bring up", "send", "sends a sequence or a test picture over a link"),
    ("draw", "pack", "a picture or text as the bytes that display memory wants"),
    ("draw", "unpack", "bytes back to a picture; --guess where nobody knows the layout"),
    ("draw", "glyphs", "fonts, characters and segments as tables of bytes, and back"),
    ("listen", "decode", "transactions and controller commands"),
    ("listen", "find", "where a condition holds: bytes, commands, refusals, edges, pulses"),
    ("listen", "screen", "the picture that the panel showed"),
    ("listen", "plot", "waveforms with decoded words over them, as a figure"),
    ("listen", "convert", "a capture in another format, a part of it, or with decoded words beside it"),
    ("listen", "record", "lines of this machine, or of a probe, as a capture"),
    ("find the fault", "diagnose", "what is wrong: the cause, the evidence, the next step"),
    ("find the fault", "sweep", "many captures at once, on every core: which are good, and which share a cause"),
    ("find the fault", "budget", "what wiring and parts allow: frame rates, dividers, LEDs that take turns, memory"),
    ("find the fault", "unravel", "a display without a datasheet: its pins, its bus, its set-up, where its picture lies"),
    ("port", "compare", "do two drivers tell the display the same? captures, sequences or bytes, timing left aside"),
    ("port", "emit", "driver source for a target, from a sequence or from the old driver's capture"),
    ("port", "init", "what the captures of a folder have in common, said once: a rig and a hushed.toml"),
    ("port", "demo", "the whole example with the demo data, as a guided tour"),
]

USAGE = "hushed-wire COMMAND [ARGUMENT …]"
HEAD = "Explains dark and garbled displays from a capture of their wires."
TAIL = """\
start here:
  hushed-wire diagnose CAPTURE          what is wrong, from one capture
  hushed-wire demo                      see it work on made-up faults
  hushed-wire COMMAND --help            options and examples of a command
  hushed-wire init CAPTURE              a rig and a hushed.toml for this folder

Captures are VCD or CSV files (plain or gzip), or raw samples with --raw and --rate; '-' is standard input.
Exit status: 0 nothing wrong, 1 findings, 2 unusable input or arguments, 130 interrupted.
"""


class _HelpAll(argparse.Action):
    """--help-all."""

    def __call__(self, parser: argparse.ArgumentParser, *_: Any) -> NoReturn:
        assert isinstance(parser, Parser)
        sys.stdout.write(parser.format_all())
        parser.exit()


def _title(group: Any) -> str:
    """What a group of options is about, without the rest."""
    return str(group.title).partition(" (")[0]


def _shown(action: argparse.Action) -> str:
    """An argument as a usage line has it."""
    name = str(action.metavar or action.dest.upper())
    many = getattr(action, "save_nargs", action.nargs)  # while options stand among arguments, argparse keeps it there
    return {"?": f"[{name}]", "+": f"{name} …", "*": f"[{name} …]"}.get(str(many), name)


NEGATIVE = re.compile(r"-\.?\d[\d.]*(e[-+]?\d+)?\s*[a-zA-Zµ]*", re.IGNORECASE)


class Parser(argparse.ArgumentParser):
    """Errors in one shape, and exit status 2; what begins with a minus and a digit is a quantity, and no option.

    --help fits on a screen: of groups of options it has the names, and --help-all says what each does, and `more`.
    """

    more = ""

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self._negative_number_matcher = NEGATIVE
        self.add_argument("--help-all", nargs=0, action=_HelpAll, help="what every option does")

    def format_help(self) -> str:
        """The short form."""
        import textwrap  # which is seldom needed

        out = self._get_formatter()
        own = [action for group in self._action_groups[:2] for action in group._group_actions]
        grouped = [group for group in self._action_groups[2:] if group._group_actions]
        out.add_usage("%(prog)s [OPTION …] " + " ".join(map(_shown, self._get_positional_actions())), [], [])
        out.add_text(self.description)
        for title, actions in (
            ("", [one for one in own if not one.option_strings]),
            ("options", [one for one in own if one.option_strings]),
        ):
            out.start_section(title or None)
            out.add_arguments(actions)
            out.end_section()
        if grouped:
            wide = min(28, max(len(_title(group)) for group in grouped))
            rows = [(_title(group), " ".join(one.option_strings[0] for one in group._group_actions)) for group in grouped]
            lines = [
                textwrap.fill(
                    names, 100, initial_indent=f"  {title:<{wide}}  ", subsequent_indent=" " * (wide + 4), break_on_hyphens=False
                )
                for title, names in rows
            ]
            out.add_text("\n".join([f"more ({self.prog} --help-all tells what each does):", *lines]))
        out.add_text(self.epilog)
        return out.format_help()

    def format_all(self) -> str:
        """Every option with what it does."""
        said, self.epilog = self.epilog, "\n\n".join(text for text in (self.epilog, self.more) if text)
        try:
            return super().format_help()
        finally:
            self.epilog = said

    def error(self, message: str) -> NoReturn:
        """Prints the error and where help is."""
        sys.stderr.write(f"hushed-wire: {in_one_line(message)}\n  see {self.prog} --help\n")
        sys.exit(2)


def overview() -> str:
    """All commands in the order of the work, and where to start: what --help says."""
    groups: dict[str, list[tuple[str, str]]] = {}
    for group, name, text in COMMANDS:
        groups.setdefault(group, []).append((name, text))
    lines = [f"usage: {USAGE}", "", HEAD, ""]
    for group, entries in groups.items():
        lines.append(f"{group}:")
        lines += [f"  {name:<10} {text}" for name, text in entries]
        lines.append("")
    return "\n".join(lines) + "\n" + TAIL


def parser_for(name: str) -> Parser:
    """A command's parser."""
    module = importlib.import_module(f"hushed_wire.cli.{name}")
    parser = Parser(prog=f"hushed-wire {name}", **_texts(module))
    _fill(parser, module)
    return parser


def _texts(module: Any) -> dict[str, Any]:
    """How a command's help is written."""
    return {
        "description": module.__doc__.split("\n\n")[0] if module.__doc__ else None,
        "epilog": module.EXAMPLES,
        "formatter_class": argparse.RawDescriptionHelpFormatter,
        "allow_abbrev": False,
    }


def _fill(parser: Parser, module: Any) -> None:
    parser.more = getattr(module, "MORE", "")
    module.arguments(parser)
    parser.set_defaults(run=module.run)


def whole_parser() -> Parser:
    """Every command with its options, as shells complete them."""
    parser = Parser(prog="hushed-wire")
    parser.add_argument("-V", "--version", action="store_true", help="the version, and nothing else")
    below = parser.add_subparsers(metavar="COMMAND", title="commands", help="one of these")
    for _, name, text in COMMANDS:
        module = importlib.import_module(f"hushed_wire.cli.{name}")
        _fill(below.add_parser(name, help=text, **_texts(module)), module)
    return parser


def _complete() -> None:
    """Shell completion: argcomplete wants the whole tree."""
    import argcomplete

    argcomplete.autocomplete(whole_parser())


def main(argv: Sequence[str] | None = None) -> int:
    """Runs the command line; returns the exit status."""
    if "_ARGCOMPLETE" in os.environ:
        _complete()
    # There is little linear algebra here: threads for it would cost more at the start than they ever save.
    os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
    words = list(sys.argv[1:] if argv is None else argv)
    _streams()
    if argv is None:
        signal.signal(signal.SIGTERM, _end)
    try:
        return _run(words)
    except HushedError as error:
        if isinstance(error, PackageMissing):
            error.remedy = brings(error.requirement)
        sys.stderr.write(f"hushed-wire: {error}\n")
        return 2
    except KeyboardInterrupt as error:
        ended = isinstance(error, _Ended)
        sys.stderr.write(f"hushed-wire: {'ended from outside' if ended else 'interrupted'}\n")
        return 143 if ended else 130
    except BrokenPipeError:
        # The reader of a pipe has had enough; what is still buffered has nowhere to go.
        os.dup2(os.open(os.devnull, os.O_WRONLY), 1)
        return 0
    except OSError as error:  # files are opened where their errors are told; what is left is standard output
        os.dup2(os.open(os.devnull, os.O_WRONLY), 1)
        where = in_one_line(str(error.filename or "standard output"))
        sys.stderr.write(f"hushed-wire: {where}: {error.strerror or error}\n  make room, or write to another place with -o\n")
        return 2
    except RecursionError:
        sys.stderr.write("hushed-wire: something in the input is nested too deeply to be read\n  write it flatter\n")
        return 2
    except MemoryError:
        sys.stderr.write("hushed-wire: not enough memory\n  read a part of the capture with --from and --to\n")
        return 2
    except Exception as error:  # a defect of ours: whoever calls must not take it for findings
        return _defect(error, words)
    finally:
        if argv is None:
            gc.freeze()  # the process ends: a last search for circles would take as long as many a command


def brings(requirement: str) -> str:
    """The command that brings a package to where the program is installed."""
    import shlex
    from importlib.util import find_spec
    from pathlib import Path

    if (Path(sys.prefix) / "pipx_metadata.json").exists():
        words = ["pipx", "inject", "hushed-wire", requirement]
    elif find_spec("pip") is None:
        words = ["uv", "pip", "install", "--python", sys.executable, requirement]
    else:
        words = [sys.executable, "-m", "pip", "install", requirement]
    return shlex.join(words)


class _Ended(KeyboardInterrupt):
    """SIGTERM: files that are half-written go as they do at Ctrl-C."""


def _end(*_: object) -> NoReturn:
    raise _Ended


def _streams() -> None:
    """Standard streams that are closed lead nowhere; what one of them cannot show is replaced."""
    for name, mode in (("stdin", "r"), ("stdout", "w"), ("stderr", "w")):
        stream = getattr(sys, name)
        if stream is None:
            setattr(sys, name, os.fdopen(os.open(os.devnull, os.O_RDWR), mode))
        elif mode == "w" and hasattr(stream, "reconfigure"):
            stream.reconfigure(errors="replace")


def _defect(error: Exception, words: list[str]) -> int:
    """The last resort: what went wrong and where, in one line, and how to tell us."""
    if os.environ.get(TRACE):
        import traceback

        traceback.print_exception(error)
    frame = error.__traceback__
    while frame is not None and frame.tb_next is not None:
        frame = frame.tb_next
    place = f"{frame.tb_frame.f_code.co_filename.rpartition(os.sep)[2]}:{frame.tb_lineno}" if frame is not None else "?"
    said = in_one_line(" ".join(str(error).split()))
    command = words[0] if words else ""
    sys.stderr.write(
        f"hushed-wire: {command}: this should not have happened: {type(error).__name__} at {place}: {said}\n"
        f"  it is a defect of the program: report it with the command and, if you can, its input; {TRACE}=1 shows where it came from\n"
    )
    return 2


TRACE = "HUSHED_WIRE_TRACE"


def _run(words: list[str]) -> int:
    if not words or words[0] in ("-h", "--help", "help"):
        if len(words) > 1 and words[0] == "help":
            return _run([words[1], "--help"])
        sys.stdout.write(overview())
        return 0 if words else 2
    if words[0] in ("-V", "--version"):
        sys.stdout.write(f"hushed-wire {VERSION}\n")
        return 0
    names = [name for _, name, _ in COMMANDS]
    if words[0] not in names:
        raise HushedError(
            f"there is no command '{words[0]}'", remedy=nearest(words[0], names) + "; hushed-wire --help lists them"
        )
    parser = parser_for(words[0])
    project = _project(words)
    said = project_options.lend(parser, words[0], project) if project is not None else {}
    try:
        args = parser.parse_intermixed_args(words[1:])  # options may stand among arguments
    except HushedError as error:
        if project is not None and error.where.startswith("--") and error.where not in words:
            error.where = f"{project.path}: {error.where[2:]}"  # nobody typed it
        raise
    lent = project_options.lent(args, said, project) if project is not None else {}
    _refuse_own_input(args, [] if project is None else [str(project.path)])
    args.lent, args.typed = tuple(lent), words
    READ.set(set())  # of this command: what it includes is not overwritten, either
    try:
        status: int = _with_catalog(args) if getattr(args, "catalog", None) else args.run(args)
    except HushedError as error:
        if project is not None and "rig" in lent:
            from ..rig.decoder import LineMissing  # of what went wrong; others need not load it

            if isinstance(error, LineMissing):
                error.remedy += f"\n  the rig is that of {project.path}; --no-project leaves it out"
        raise
    sys.stdout.flush()
    return status


def _project(words: list[str]) -> Any:
    """The project of the folder where one works, unless --no-project is said; taken out of the words."""
    if "--no-project" in words:
        words.remove("--no-project")
        return None
    if words[0] in ("demo", "init"):
        return None
    from pathlib import Path

    from ..project import find_project

    try:
        return find_project(Path.cwd())
    except FileNotFoundError:  # the folder is gone
        return None


# Options that name what is written; whatever else names a file is read.
WRITTEN = {"output": "-o", "picture": "--picture", "save_rig": "--save-rig", "resume": "--resume", "report": "--report"}


def _refuse_own_input(args: argparse.Namespace, beside: list[str]) -> None:
    """Raises HushedError where what is written is also read, or written twice: through links and other spellings, too. beside: files that are
    read without being named."""
    written = {option: name for key, option in WRITTEN.items() if (name := getattr(args, key, None)) not in (None, "-")}
    if not written:
        return
    read = [*beside, *(word for key, value in vars(args).items() if key not in WRITTEN for word in _words_of(value))]
    known: dict[tuple[int, int] | str, str] = {place: word for word in read if isinstance(place := _place(word), tuple)}
    for option, name in written.items():
        place = _place(name)
        if place in known:
            other = known[place]
            what = f"it is what {other} writes" if other in WRITTEN.values() else "it is read by this command"
            raise HushedError(f"would overwrite '{name}': {what}", where=option, remedy="name another file; nothing was written")
        known[place] = option


def _words_of(value: object) -> list[str]:
    """The texts in what an option was given, however they are listed."""
    if isinstance(value, (list, tuple)):
        return [word for one in value for word in _words_of(one)]
    return [value] if isinstance(value, str) else []


def _place(name: str) -> tuple[int, int] | str:
    """What tells a file from others: where it lies on its disk; of one that is still to be made its path. Devices are never the same."""
    from pathlib import Path

    try:
        found = Path(name).stat()
    except (OSError, ValueError):
        return os.path.realpath(name) if "\0" not in name else name
    return (found.st_dev, found.st_ino) if stat.S_ISREG(found.st_mode) else f"{name} {id(name)}"


def _with_catalog(args: argparse.Namespace) -> int:
    """Runs a command by the parts of a user's folder beside those that ship."""
    from ..part import Catalog

    try:
        catalog = Catalog([args.catalog])
    except HushedError as error:
        error.remedy = error.remedy.replace("name a folder", "--catalog names a folder")
        raise
    with catalog.in_use():
        status: int = args.run(args)
    return status
