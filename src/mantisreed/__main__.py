"""`python -m mantisreed`."""

import sys

from mantisreed.cli.main import main

if __name__ == "__main__":
    sys.exit(main())
