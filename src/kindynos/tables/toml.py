"""Reading files of TOML, with advice on what is not: model files and decision files. No code in
them is ever executed.
"""

from __future__ import annotations

import re
import tomllib
from pathlib import Path
from typing import Any

from kindynos.errors import FileError
from kindynos.tables.files import check_file

TABLES = (".csv", ".tsv")
LARGEST = 1_000_000  # bytes of a file


def read_toml(path: Path) -> dict[str, Any]:
    """Return the document in a file; raises FileError, with the line and what is likely meant."""
    try:
        check_file(path)
        data = path.read_bytes()
    except OSError as error:
        raise FileError(f"cannot be read: {error.strerror or error}", file=str(path)) from None
    if path.suffix.lower() in TABLES:
        raise FileError(
            f"is a table, and no model; kindynos read {path.name} or kindynos fit {path.name} "
            "looks at its columns",
            file=str(path),
        )
    if data[:4] == b"PAR1":
        raise FileError(
            "is a Parquet file, such as a saved run, and no model; give the model file (.toml)",
            file=str(path),
        )
    return parse_toml(data, str(path))


def parse_toml(data: bytes, source: str) -> dict[str, Any]:
    """Return the document in the bytes of a file; errors name the ``source``."""
    if len(data) > LARGEST:
        raise FileError(
            f"a model file may have {LARGEST:,} bytes, and this one has {len(data):,}", file=source
        )
    try:
        return tomllib.loads(data.decode("utf-8"))
    except UnicodeDecodeError as error:
        raise FileError(f"is not UTF-8 text (byte {error.start})", file=source) from None
    except (tomllib.TOMLDecodeError, RecursionError, ValueError) as error:
        text = str(error) or "it is nested too deeply"
        raise FileError(f"is not TOML: {text}{_advice(text, data.decode())}", file=source) from None


def _advice(message: str, text: str) -> str:
    """Return what is likely meant by a line that is not TOML, empty where nothing is likely."""
    match = re.search(r"at line (\d+)", message)
    lines = text.splitlines()
    if match is None or not 0 < int(match[1]) <= len(lines):
        return ""
    line = lines[int(match[1]) - 1].strip()
    key = line.partition("=")[0].strip()
    if "Cannot overwrite" in message:
        return f": {key} is there twice"
    if re.search(r"=\s*-?\d{1,3}(,\d{3})+(\.\d+)?$", line):
        return f": {line}; numbers are written without commas, such as 1000 or 1_000"
    if re.search(r"=\s*-?\d+,\d+$", line):
        return f": {line}; a decimal comma must be a point"
    if re.search(r"=\s*-?\d+(,\d+)+\s*[,}\]]", line):
        return f": {line}; numbers are written without commas, such as 1000 or 1_000, and 0.5"
    if "Illegal character" in message and line.count('"') % 2:
        return f": {line}; a text ends with a quote, which is missing"
    if re.search(r"=\s*[.]\d", line):
        return f": {line}; write 0.5, not .5"
    if re.search(r"=\s*[A-Za-z_]", line):
        return f": {line}; a text or a formula is written in quotes"
    return f": {line:.80}"
