"""``python -m kindynos``, and the command ``kindynos``."""

from __future__ import annotations

import os
import signal


def main() -> None:
    """Run the command line; while it is still being loaded, an interrupt or a termination ends it
    at once.

    No exception is raised for it then: Python turns one that falls into the making of a class into
    an error of its own.
    """
    _open_standard_streams()
    # blocks of trials and fits already use every processor; threads of BLAS within them get in
    # each other's way, and halve the speed of fits on a busy machine
    os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
    signal.signal(signal.SIGINT, _interrupted)
    signal.signal(signal.SIGTERM, lambda *_: os._exit(143))
    from kindynos.cli import handle_signals
    from kindynos.cli import main as run

    handle_signals()
    run()


def _open_standard_streams() -> None:
    """Open those of the first three files that the caller closed, lest a file of data become one
    of them.
    """
    for number in range(3):
        try:
            os.fstat(number)
        except OSError:
            os.open(os.devnull, os.O_RDWR)


def _interrupted(*_: object) -> None:
    os.write(2, b"kindynos: stopped\n")
    os._exit(1)


if __name__ == "__main__":
    main()
