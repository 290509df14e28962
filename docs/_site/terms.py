"""Links from the words of the pages to their meanings on the page of terms, made as the site is
built: the first use of each on a page.
"""

import re

PAGE = "reference/terms"
LINKED = {  # as pages write them, and the row of the term
    "net present value": "net present value (NPV)",
    "NPV": "net present value (NPV)",
    "internal rate of return": "internal rate of return (IRR)",
    "IRR": "internal rate of return (IRR)",
    "discount rate": "discount rate, hurdle",
    "rank correlation": "rank correlation",
    "copula": "copula",
    "Shapley": "Shapley value",
    "zone": "zone (green, yellow, red)",
    "value at risk": "value at risk",
    "expected shortfall": "expected shortfall",
    "drawdown": "drawdown",
    "frontier": "frontier",
    "turnover": "turnover",
    "cohort": "cohort",
    "contingency": "contingency",
    "risk register": "risk register",
    "first-order share": "first-order share",
    "base case": "base case",
    "sampling plan": "sampling plan",
    "sampling error": "sampling error",
    "certainty equivalent": "certainty equivalent",
    "risk profile": "risk profile",
    "regret": "regret",
    "AICc": "AIC, AICc, BIC",
    "CRPS": "CRPS",
    "rolling origins": "rolling origins",
    "covenant": "covenant, cover ratio",
    "tornado": "tornado",
}
APART = re.compile(r"`[^`]*`|!?\[[^\]]*\]\([^)]*\)|<[^>]*>|\$[^$]*\$")  # code, links, formulas
OTHER = ("#", "|", "!", "<", "(", "{", ":", ">")  # beginnings of lines that are no sentences


def slug(row: str) -> str:
    """Return the anchor of a row of the table."""
    return "term-" + re.sub(r"[^a-z0-9]+", "-", row.lower()).strip("-")


def anchored(text: str) -> str:
    """Return the page of terms with an anchor on each row that is linked to."""
    rows = set(LINKED.values())

    def row(line: re.Match[str]) -> str:
        name = line[1]
        return f'| <a id="{slug(name)}"></a>{name} |' if name in rows else line[0]

    return re.sub(r"^\| ([^|]+?) \|", row, text, flags=re.M)


def linked(text: str) -> str:
    """Return a page, a folder below the top, with the first use of each term linked."""
    left = dict(LINKED)
    lines, fence = [], ""
    for line in text.split("\n"):
        mark = re.match(r"\s*(`{3,}|~{3,})", line)
        if mark and (not fence or mark[1].startswith(fence)):
            fence = "" if fence else mark[1]
        sentence = not (fence or mark or line.startswith(OTHER))
        lines.append(_line(line, left) if sentence else line)
    return "\n".join(lines)


def _line(line: str, left: dict[str, str]) -> str:
    pieces, begin = [], 0
    for apart in [*APART.finditer(line), None]:
        end = len(line) if apart is None else apart.start()
        pieces.append(_plain(line[begin:end], left))
        if apart is not None:
            pieces.append(apart[0])
            begin = apart.end()
    return "".join(pieces)


def _plain(text: str, left: dict[str, str]) -> str:
    """Return a piece of a sentence with links; what was linked is no longer left."""
    words = "|".join(map(re.escape, sorted(left, key=len, reverse=True)))
    found = re.compile(rf"\b({words})s?\b", re.IGNORECASE)
    begin, pieces = 0, []
    while left and (hit := found.search(text, begin)):
        row = next((row for word, row in left.items() if word.lower() == hit[1].lower()), None)
        link = hit[0] if row is None else f'<a href="../{PAGE}.html#{slug(row)}">{hit[0]}</a>'
        pieces += [text[begin : hit.start()], link]
        begin = hit.end()
        for word in [word for word, other in left.items() if other == row]:
            del left[word]
    return "".join([*pieces, text[begin:]])


def read(app: object, name: str, source: list[str]) -> None:
    """Put the links in the source of a page as Sphinx reads it."""
    if name == PAGE:
        source[0] = anchored(source[0])
    elif name.startswith(("how-to/", "start/")):
        source[0] = linked(source[0])
