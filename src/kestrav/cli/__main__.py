"""Starting with ``python -m kestrav.cli``."""

import sys

from kestrav.cli import main

if __name__ == "__main__":
    sys.exit(main())
