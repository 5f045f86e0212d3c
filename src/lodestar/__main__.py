"""`python -m lodestar`: the window, or one of the commands."""

import sys

from lodestar.cli import main

sys.exit(main(sys.argv[1:]))
