"""The command line: argparse, one thin module a command."""
