"""Carrying a task to other processes: by value, with the versions that it needs, and once for each
worker where that can be done.
"""

from __future__ import annotations

import hashlib
import os
import site
import sys
import sysconfig
import tempfile
from collections.abc import Callable, Iterator
from concurrent.futures import Executor, Future, ProcessPoolExecutor
from contextlib import contextmanager
from functools import lru_cache
from pathlib import Path
from threading import get_ident
from types import ModuleType
from typing import Any

from kindynos.engine.fingerprint import check_versions, versions
from kindynos.errors import RunError

LARGE = 1_000_000  # bytes of a task, from which on processes read it from a file


class Carried:
    """A task as bytes or as a file of them, unpacked once in each thread of a process, whose
    versions are checked first.
    """

    def __init__(self, data: bytes, file: str | None = None) -> None:
        self.data, self.file = data, file
        self.digest = hashlib.sha256(data).hexdigest()[:16]
        self.versions = versions()

    def in_file(self, file: str) -> Carried:
        """Return the same as the name of a file that holds it."""
        Path(file).write_bytes(self.data)
        named = Carried(b"", file)
        named.digest = self.digest
        return named

    def __call__(self, batch: int) -> Any:
        """Work out a batch; raises RunError where this process has other versions."""
        return _unpacked(self, get_ident())(batch)

    def __hash__(self) -> int:
        return hash(self.digest)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Carried) and self.digest == other.digest


@lru_cache(maxsize=16)
def _unpacked(carried: Carried, thread: int) -> Callable[[int], Any]:
    """Return the task for a thread; each thread has its own: the functions in it may keep
    state.
    """
    import cloudpickle

    check_versions(carried.versions)
    data = carried.data if carried.file is None else Path(carried.file).read_bytes()
    task: Callable[[int], Any] = cloudpickle.loads(data)
    return task


def run_carried(carried: Carried, batch: int) -> Any:
    """Work out a batch: what a cluster calls, which brings the task to each worker once."""
    return carried(batch)


def by_value(task: Callable[..., Any]) -> Carried:
    """Return the task as something any process can call; raises RunError without cloudpickle.

    The model travels with its functions as they are now: those of a notebook or a script, and those
    of modules of the user, which a worker may have loaded before they were edited.
    """
    try:
        import cloudpickle
    except ImportError:
        raise RunError(
            "running in other processes needs cloudpickle: pip install 'kindynos[cluster]'"
        ) from None
    try:
        with _modules_by_value():
            return Carried(cloudpickle.dumps(task))
    # a lock, an open file, a connection: a module may hold what refuses to be copied
    except Exception:
        pass
    try:
        return Carried(cloudpickle.dumps(task))
    except Exception as error:
        raise RunError(f"the model cannot be sent to other processes: {error}") from error


@contextmanager
def _modules_by_value() -> Iterator[None]:
    """Have the modules of the user travel by value, while the context lasts."""
    import cloudpickle

    registry_pickle = cloudpickle.list_registry_pickle_by_value()
    own = [module for name, module in list(sys.modules.items()) if _is_own(name, module)]
    own = [module for module in own if module.__name__ not in registry_pickle]
    for module in own:
        cloudpickle.register_pickle_by_value(module)
    try:
        yield
    finally:
        for module in own:
            cloudpickle.unregister_pickle_by_value(module)


def _is_own(name: str, module: ModuleType) -> bool:
    """Return whether a module is neither of an installed package nor of Python itself."""
    file = getattr(module, "__file__", None)
    if (
        not isinstance(module, ModuleType)
        or not isinstance(file, str)
        or name.partition(".")[0] in ("kindynos", "__main__", "__mp_main__")
        or module.__name__ != name
        or sys.modules.get(name) is not module
    ):
        return False
    return not os.path.realpath(file).startswith(_installed())


@lru_cache(maxsize=1)
def _installed() -> tuple[str, ...]:
    """Return the folders of Python and of installed packages."""
    paths = sysconfig.get_paths()
    folders = [paths[key] for key in ("stdlib", "platstdlib", "purelib", "platlib")]
    folders += [*site.getsitepackages(), site.getusersitepackages()]
    folders += [os.path.join(prefix, "lib") for prefix in (sys.prefix, sys.base_prefix)]
    return tuple(os.path.realpath(folder) + os.sep for folder in folders)


@contextmanager
def handed_out(executor: Executor, carried: Carried) -> Iterator[Callable[[int], Future[Any]]]:
    """Give what submits batches of a task to an executor, which gets it once for each worker where
    it can: a cluster keeps it, and processes of this machine read it from a file.
    """
    client = getattr(executor, "_client", None)
    if client is not None and hasattr(client, "scatter"):
        sent = client.scatter(carried, broadcast=True, hash=False)
        yield lambda batch: executor.submit(run_carried, sent, batch)
    elif isinstance(executor, ProcessPoolExecutor) and len(carried.data) > LARGE:
        handle, name = tempfile.mkstemp(prefix="kindynos-")
        os.close(handle)
        try:
            named = carried.in_file(name)
            yield lambda batch: executor.submit(named, batch)
        finally:
            Path(name).unlink(missing_ok=True)
    else:
        yield lambda batch: executor.submit(carried, batch)
