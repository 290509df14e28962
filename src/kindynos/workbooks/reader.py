"""Reading a workbook (ISO/IEC 29500, .xlsx and .xlsm): what its cells hold, formulas beside the
values that are stored with them, names and tables. Macros are never run, and no link is followed.
"""

from __future__ import annotations

import re
import zipfile
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path, PurePosixPath
from typing import Any
from xml.etree import ElementTree

from kindynos.errors import FileError
from kindynos.tables.files import MOST_BYTES, check_file, check_zip
from kindynos.validate import path_of
from kindynos.workbooks.addresses import Area, area_in, column_of
from kindynos.workbooks.cell_errors import ERRORS, VALUE
from kindynos.workbooks.collecting import uncollected
from kindynos.workbooks.values import Value

MAIN = "{http://schemas.openxmlformats.org/spreadsheetml/2006/main}"
STRICT = "{http://purl.oclc.org/ooxml/spreadsheetml/main}"
LINK = "{http://schemas.openxmlformats.org/officeDocument/2006/relationships}id"
STRICT_LINK = "{http://purl.oclc.org/ooxml/officeDocument/relationships}id"
ENDINGS = (".xlsx", ".xlsm", ".xltx", ".xltm")
OLD_FILE = b"\xd0\xcf\x11\xe0"
MOST_CELLS = 5_000_000  # that hold something
# formats that a file names by their number only (ISO/IEC 29500-1, 18.8.30)
BUILT_IN = {
    9: "0%", 10: "0.00%", 14: "mm-dd-yy", 15: "d-mmm-yy", 16: "d-mmm", 17: "mmm-yy",
    22: "m/d/yy h:mm", **dict.fromkeys((5, 6, 7, 8, 42, 44), '"$"#,##0'),
}  # fmt: skip
ESCAPED = re.compile(r"_x([0-9A-Fa-f]{4})_")


@dataclass(frozen=True, slots=True)
class Formula:
    """A formula of a cell: its text, or the number of the ``shared`` one that it
    copies; ``area`` is what an array formula fills.
    """

    text: str
    shared: int | None = None
    area: Area | None = None


@dataclass
class Sheet:
    """A sheet: values by row and column, the stored ones of formulas among them, and formulas."""

    name: str
    values: dict[tuple[int, int], Value] = field(default_factory=dict)
    formulas: dict[tuple[int, int], Formula] = field(default_factory=dict)
    shared: dict[int, tuple[str, int, int]] = field(default_factory=dict)
    repeated: list[Area] = field(default_factory=list)  # tables of repeated recalculation
    hidden: set[int] = field(default_factory=set)  # rows that are not shown
    filtered: Area | None = None  # the area whose rows a filter may hide
    styles: dict[tuple[int, int], int] = field(default_factory=dict)  # of cells with a format
    bottom: int = 1
    right: int = 1


@dataclass(frozen=True)
class TableArea:
    """A table on a sheet: its whole area, the names of its columns, and its extra rows."""

    name: str
    area: Area
    columns: tuple[str, ...]
    header_rows: int = 1
    total_rows: int = 0


@dataclass
class Contents:
    """What a workbook holds."""

    path: str
    sheets: dict[str, Sheet]
    names: dict[tuple[str | None, str], str]  # by the sheet they belong to, and in capitals
    spelling: dict[str, str]
    tables: dict[str, TableArea]
    since_1904: bool = False
    iterates: bool = False
    iterations: int = 100
    change: float = 0.001
    program: str = ""
    macros: bool = False
    links: int = 0
    formats: list[str] = field(default_factory=list)  # by the number of the style

    def format_of(self, sheet: str, row: int, column: int) -> str:
        """Return the number format of a cell; "" for none."""
        style = self.sheets[sheet].styles.get((row, column), 0)
        return self.formats[style] if style < len(self.formats) else ""

    def sheet(self, name: str) -> Sheet | None:
        """Return a sheet by its name, whatever the capitals."""
        stored = self.sheets.get(name)
        if stored is not None:
            return stored
        lower = name.lower()
        return next((sheet for key, sheet in self.sheets.items() if key.lower() == lower), None)


@uncollected()
def read_contents(source: str | Path) -> Contents:
    """Return what a workbook holds; raises FileError for a file that is none, or cannot be read."""
    path = path_of("source", source)
    check_file(path)
    _check_kind(path)
    try:
        check_zip(path)
        with zipfile.ZipFile(path) as packed:
            return _Package(packed, str(path)).contents()
    except FileError:
        raise
    except zipfile.BadZipFile:
        raise FileError("is damaged: it cannot be unpacked", file=str(path)) from None
    except RuntimeError:
        raise FileError("is protected by a password; save it without one", file=str(path)) from None
    # whatever a damaged part makes its readers raise
    except Exception as error:
        reason = str(error).strip("'\"").splitlines()[0][:120] if str(error) else "no reason given"
        raise FileError(
            f"is damaged: a part of it cannot be read ({reason})", file=str(path)
        ) from None


def _check_kind(path: Path) -> None:
    ending = path.suffix.lower()
    if ending in (".xls", ".ods", ".xlsb", ".numbers"):
        raise FileError(
            f"{ending} workbooks are not read; save it as an .xlsx workbook", file=str(path)
        )
    with path.open("rb") as stream:
        head = stream.read(4)
    if head == OLD_FILE:
        raise FileError(
            "is protected by a password, or of the old kind; save it as .xlsx without one",
            file=str(path),
        )
    if ending not in ENDINGS:
        raise FileError("is not a workbook: its name must end in .xlsx or .xlsm", file=str(path))


class _Package:
    """The parts of a workbook."""

    def __init__(self, packed: zipfile.ZipFile, file: str) -> None:
        self.packed, self.file = packed, file
        self.known = set(packed.namelist())

    def _tree(self, part: str) -> Any:
        data = self.packed.read(part)
        if len(data) > MOST_BYTES or b"<!DOCTYPE" in data[:2000]:
            raise FileError("has a part that is not read", file=self.file)
        return ElementTree.fromstring(data.replace(STRICT[1:-1].encode(), MAIN[1:-1].encode()))

    def _targets(self, part: str) -> dict[str, tuple[str, str]]:
        """Return the parts that a part refers to, by the name of the reference, with their kind."""
        pure_posix_path = PurePosixPath(part)
        beside = str(pure_posix_path.parent / "_rels" / f"{pure_posix_path.name}.rels")
        if beside not in self.known:
            return {}
        targets = {}
        for link in self._tree(beside):
            if link.get("TargetMode") == "External":
                continue
            target = link.get("Target", "")
            whole = (
                target.lstrip("/")
                if target.startswith("/")
                else str(pure_posix_path.parent / target)
            )
            targets[link.get("Id", "")] = (
                _resolved(whole),
                link.get("Type", "").rpartition("/")[2],
            )
        return targets

    def contents(self) -> Contents:
        """Return what the workbook holds."""
        root = next(
            (part for part, kind in self._targets("").values() if kind == "officeDocument"), None
        )
        if root is None or root not in self.known:
            raise FileError("is not a workbook: it holds no sheets", file=self.file)
        book, targets = self._tree(root), self._targets(root)
        strings, formats = self._strings(targets), self._formats(targets)
        sheets: dict[str, Sheet] = {}
        tables: dict[str, TableArea] = {}
        count = 0
        for entry in book.iterfind(f"{MAIN}sheets/{MAIN}sheet"):
            name = entry.get("name", "")
            part, kind = targets.get(entry.get(LINK) or entry.get(STRICT_LINK) or "", ("", ""))
            if kind != "worksheet":
                continue
            sheets[name] = self._sheet(name, part, strings)
            count += len(sheets[name].values)
            if count > MOST_CELLS:
                raise FileError(
                    f"holds more than {MOST_CELLS:,} cells, the most that is read", file=self.file
                )
            for table in self._tables(name, part):
                tables[table.name.lower()] = table
        if not sheets:
            raise FileError("is not a workbook: it holds no sheets", file=self.file)
        names, spelling = _names(book, list(sheets))
        settings = book.find(f"{MAIN}workbookPr")
        calculation = book.find(f"{MAIN}calcPr")
        given = {} if calculation is None else calculation.attrib
        return Contents(
            self.file,
            sheets,
            names,
            spelling,
            tables,
            since_1904=settings is not None and settings.get("date1904") in ("1", "true"),
            iterates=given.get("iterate") in ("1", "true"),
            iterations=int(given.get("iterateCount", 100)),
            change=float(given.get("iterateDelta", 0.001)),
            program=self._program(),
            macros=any(part.endswith("vbaProject.bin") for part in self.known),
            links=sum(kind == "externalLink" for _, kind in targets.values()),
            formats=formats,
        )

    def _program(self) -> str:
        if "docProps/app.xml" not in self.known:
            return ""
        return next(
            (e.text or "" for e in self._tree("docProps/app.xml") if e.tag.endswith("Application")),
            "",
        )

    def _strings(self, targets: dict[str, tuple[str, str]]) -> list[str]:
        part = next((part for part, kind in targets.values() if kind == "sharedStrings"), None)
        if part is None or part not in self.known:
            return []
        return [_text_in(entry) for entry in self._tree(part).iterfind(f"{MAIN}si")]

    def _formats(self, targets: dict[str, tuple[str, str]]) -> list[str]:
        """Return the number formats of the styles of cells, in their order."""
        part = next((part for part, kind in targets.values() if kind == "styles"), None)
        if part is None or part not in self.known:
            return []
        styles = self._tree(part)
        stated = {
            entry.get("numFmtId"): entry.get("formatCode", "")
            for entry in styles.iterfind(f"{MAIN}numFmts/{MAIN}numFmt")
        }
        numbers = [e.get("numFmtId", "0") for e in styles.iterfind(f"{MAIN}cellXfs/{MAIN}xf")]
        return [stated.get(n, BUILT_IN.get(int(n), "")) for n in numbers]

    def _tables(self, sheet: str, part: str) -> Iterator[TableArea]:
        for target, kind in self._targets(part).values():
            if kind != "table" or target not in self.known:
                continue
            table = self._tree(target)
            area = area_in(table.get("ref", ""), sheet)
            columns = tuple(
                _unescaped(column.get("name", ""))
                for column in table.iterfind(f"{MAIN}tableColumns/{MAIN}tableColumn")
            )
            if area is not None:
                name = table.get("displayName") or table.get("name") or ""
                heads, totals = table.get("headerRowCount", "1"), table.get("totalsRowCount", "0")
                yield TableArea(name, area, columns, int(heads), int(totals))

    def _sheet(self, name: str, part: str, strings: list[str]) -> Sheet:
        sheet = Sheet(name)
        if part not in self.known:
            raise FileError(f"is damaged: the sheet {name!r} is missing", file=self.file)
        with self.packed.open(part) as stream:
            head = stream.read(2000)
        if b"<!DOCTYPE" in head:
            raise FileError("has a part that is not read", file=self.file)
        with self.packed.open(part) as stream:
            row = 0
            for _, element in ElementTree.iterparse(stream):
                if element.tag.endswith("}row"):
                    row = int(element.get("r", row + 1))
                    if element.get("hidden") in ("1", "true"):
                        sheet.hidden.add(row)
                    _read_row(sheet, row, element, strings)
                    element.clear()
                elif element.tag.endswith("}autoFilter"):
                    sheet.filtered = area_in(element.get("ref", ""), name)
        for area in sheet.repeated:
            rows = range(area.top, area.bottom + 1)
            columns = range(area.left, area.right + 1)
            inside = [at for at in sheet.formulas if at[0] in rows and at[1] in columns]
            for at in inside:
                del sheet.formulas[at]
        return sheet


def _read_row(sheet: Sheet, row: int, element: Any, strings: list[str]) -> None:
    """Read the cells of a row that hold something."""
    column = 0
    for cell in element:
        address = cell.get("r")
        column = column_of(address.rstrip("0123456789")) if address else column + 1
        stored: Value = None
        formula = None
        kind = cell.get("t", "n")
        for child in cell:
            tag = child.tag.rpartition("}")[2]
            if tag == "v":
                stored = _stored(kind, child.text, strings)
            elif tag == "is":
                stored = _text_in(child)
            elif tag == "f":
                formula = child
        if stored is None and formula is None:
            continue
        if stored is not None:
            sheet.values[row, column] = stored
        style = cell.get("s", "0")
        if style != "0" and not isinstance(stored, str):
            sheet.styles[row, column] = int(style)
        if formula is not None:
            _read_formula(sheet, row, column, formula)
        sheet.bottom, sheet.right = max(sheet.bottom, row), max(sheet.right, column)


def _read_formula(sheet: Sheet, row: int, column: int, element: Any) -> None:
    kind, text = element.get("t", "normal"), element.text or ""
    area = area_in(element.get("ref", ""), sheet.name) if element.get("ref") else None
    if kind == "dataTable":
        if area is not None:
            sheet.repeated.append(area)
        return
    if kind == "shared":
        number = int(element.get("si", 0))
        if text:
            sheet.shared[number] = (text, row, column)
        sheet.formulas[row, column] = Formula(text, number)
    elif kind == "array":
        sheet.formulas[row, column] = Formula(
            text, area=area or Area(sheet.name, row, column, row, column)
        )
    elif text:
        sheet.formulas[row, column] = Formula(text)


def _stored(kind: str, text: str | None, strings: list[str]) -> Value:
    if text is None:
        return "" if kind == "str" else None
    if kind == "s":
        return strings[int(text)]
    if kind == "b":
        return text.strip() in ("1", "true")
    if kind == "e":
        return ERRORS.get(text.strip(), VALUE)
    if kind == "n":
        return float(text)
    if kind == "d":
        from kindynos.workbooks.serials import serial_in_text

        return serial_in_text(text.replace("T", " ").rstrip("Z"))
    return _unescaped(text)


def _text_in(element: Any) -> str:
    """Return the text of a string in parts, without its reading aids."""
    parts = []
    for child in element:
        tag = child.tag.rpartition("}")[2]
        if tag == "t":
            parts.append(child.text or "")
        elif tag == "r":
            parts += [run.text or "" for run in child if run.tag.endswith("}t")]
    return _unescaped("".join(parts))


def _unescaped(text: str) -> str:
    return ESCAPED.sub(lambda m: chr(int(m[1], 16)), text) if "_x" in text else text


def _resolved(path: str) -> str:
    parts: list[str] = []
    for step in path.split("/"):
        if step == "..":
            parts = parts[:-1]
        elif step not in (".", ""):
            parts.append(step)
    return "/".join(parts)


def _names(
    book: Any, sheets: list[str]
) -> tuple[dict[tuple[str | None, str], str], dict[str, str]]:
    """Return defined names with what they stand for, and as they are spelt."""
    listed = [entry.get("name", "") for entry in book.iterfind(f"{MAIN}sheets/{MAIN}sheet")]
    by_name: dict[tuple[str | None, str], str] = {}
    spelling: dict[str, str] = {}
    for entry in book.iterfind(f"{MAIN}definedNames/{MAIN}definedName"):
        name, local = entry.get("name", ""), entry.get("localSheetId")
        if name.startswith("_xlnm.") or entry.get("function") in ("1", "true"):
            continue
        owner = listed[int(local)] if local is not None and int(local) < len(listed) else None
        by_name[owner, name.upper()] = entry.text or ""
        spelling[name.upper()] = name
    return by_name, spelling
