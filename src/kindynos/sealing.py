"""Seals: digests by which a file that is opened or resumed is known to be as it was written."""

from __future__ import annotations

import json
from collections.abc import Mapping
from hashlib import blake2b
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

SIZE = 16  # bytes of a seal
PIECE = 2**20  # bytes of a file that are read at a time


def seal_of_facts(facts: Mapping[str, Any]) -> str:
    """Return the seal of plain facts, whatever their order; their own ``seal`` does not count."""
    unsealed = {key: value for key, value in facts.items() if key != "seal"}
    text = json.dumps(unsealed, sort_keys=True)
    return blake2b(text.encode("utf-8", "surrogatepass"), digest_size=SIZE).hexdigest()


def seal_of_arrays(arrays: Mapping[str, NDArray[Any]]) -> str:
    """Return the seal of arrays with their names, types and shapes."""
    digest = blake2b(digest_size=SIZE)
    for name in sorted(arrays):
        array = np.ascontiguousarray(arrays[name])
        digest.update(f"{name} {array.dtype.str} {array.shape} ".encode("utf-8", "surrogatepass"))
        digest.update(array.tobytes())
    return digest.hexdigest()


def seal_of_file(path: Path) -> str:
    """Return the seal of a file's bytes."""
    digest = blake2b(digest_size=SIZE)
    with path.open("rb") as stream:
        while chunk := stream.read(PIECE):
            digest.update(chunk)
    return digest.hexdigest()
