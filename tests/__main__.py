"""Run the tests: ``python -m tests --help`` tells more."""

import sys

from tests.runner import main

if __name__ == "__main__":
    sys.exit(main())
