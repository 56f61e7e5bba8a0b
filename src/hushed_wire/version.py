"""The version, alone in a file so that `--version` and the build need nothing else."""

VERSION = "0.1.0"
