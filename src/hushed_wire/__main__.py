"""`python -m hushed_wire` is the command line."""

import sys

from .cli.main import main

sys.exit(main())
