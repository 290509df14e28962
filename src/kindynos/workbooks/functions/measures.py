"""CONVERT: amounts from one unit into another of the same kind."""

from __future__ import annotations

import math

from kindynos.workbooks.cell_errors import NA
from kindynos.workbooks.functions.registry import function, required
from kindynos.workbooks.values import Value

FOOT, POUND, GRAVITY = 0.3048, 453.59237, 9.80665
INCH, YARD, MILE, NAUTICAL = FOOT / 12, 3 * FOOT, 5280 * FOOT, 1852.0
GALLON, IMPERIAL = 231 * INCH**3 * 1000, 4.54609  # litres
CALORIE, BTU = 4.1868, 1055.05585262
POUND_FORCE = POUND / 1000 * GRAVITY
HORSE = 550 * FOOT * POUND_FORCE  # watts

# each unit in the first one of its kind; a "*" says that prefixes may stand before it
_KINDS = {
    "mass": {
        "g*": 1.0, "sg": POUND_FORCE / FOOT * 1000, "lbm": POUND,
        "u*": 1.66053906660e-24, "ozm": POUND / 16, "grain": POUND / 7000, "cwt": 100 * POUND,
        "uk_cwt": 112 * POUND, "lcwt": 112 * POUND, "stone": 14 * POUND, "ton": 2000 * POUND,
        "uk_ton": 2240 * POUND, "LTON": 2240 * POUND, "brton": 2240 * POUND,
    },
    "distance": {
        "m*": 1.0, "mi": MILE, "Nmi": NAUTICAL, "in": INCH, "ft": FOOT, "yd": YARD,
        "ang*": 1e-10, "ell": 45 * INCH, "ly*": 9.4607304725808e15,
        "parsec*": 149597870700 * 648000 / math.pi, "pc*": 149597870700 * 648000 / math.pi,
        "Pica": INCH / 72, "Picapt": INCH / 72, "pica": INCH / 6, "survey_mi": 5280 * 1200 / 3937,
    },
    "time": {
        "sec*": 1.0, "s*": 1.0, "mn": 60.0, "min": 60.0, "hr": 3600.0, "day": 86400.0,
        "d": 86400.0, "yr": 365.25 * 86400,
    },
    "pressure": {
        "Pa*": 1.0, "p*": 1.0, "atm*": 101325.0, "at*": 101325.0, "mmHg*": 133.322363925,
        "psi": POUND_FORCE / INCH**2, "Torr": 101325 / 760,
    },
    "force": {
        "N*": 1.0, "dyn*": 1e-5, "dy*": 1e-5, "lbf": POUND_FORCE, "pond*": GRAVITY / 1000,
    },
    "energy": {
        "J*": 1.0, "e*": 1e-7, "c*": 4.184, "cal*": CALORIE, "eV*": 1.602176634e-19,
        "ev*": 1.602176634e-19, "HPh": HORSE * 3600, "hh": HORSE * 3600,
        "Wh*": 3600.0, "wh*": 3600.0, "flb": POUND_FORCE * FOOT, "BTU": BTU, "btu": BTU,
    },
    "power": {"W*": 1.0, "w*": 1.0, "HP": HORSE, "h": HORSE, "PS": 735.49875},
    "magnetism": {"T*": 1.0, "ga*": 1e-4},
    "volume": {
        "l*": 1.0, "L*": 1.0, "lt*": 1.0, "tsp": GALLON / 768, "tspm": 0.005, "tbs": GALLON / 256,
        "oz": GALLON / 128, "cup": GALLON / 16, "pt": GALLON / 8, "us_pt": GALLON / 8,
        "uk_pt": IMPERIAL / 8, "qt": GALLON / 4, "uk_qt": IMPERIAL / 4, "gal": GALLON,
        "uk_gal": IMPERIAL, "ang3": 1e-27, "barrel": 42 * GALLON,
        "bushel": 2150.42 * INCH**3 * 1000,
        "ft3": FOOT**3 * 1000, "in3": INCH**3 * 1000, "m3": 1000.0, "mi3": MILE**3 * 1000,
        "Nmi3": NAUTICAL**3 * 1000, "yd3": YARD**3 * 1000, "GRT": 100 * FOOT**3 * 1000,
        "MTON": 40 * FOOT**3 * 1000,
    },
    "area": {
        "m2": 1.0, "uk_acre": 4840 * YARD**2, "us_acre": 43560 * (1200 / 3937) ** 2, "ang2": 1e-20,
        "ar*": 100.0, "ft2": FOOT**2, "ha": 10000.0, "in2": INCH**2, "mi2": MILE**2,
        "Nmi2": NAUTICAL**2, "yd2": YARD**2, "Morgen": 2500.0,
    },
    "information": {"bit*": 1.0, "byte*": 8.0},
    "speed": {
        "m/s*": 1.0, "m/sec*": 1.0, "m/h*": 1 / 3600, "m/hr*": 1 / 3600, "mph": MILE / 3600,
        "kn": NAUTICAL / 3600, "admkn": 6080 * FOOT / 3600,
    },
}  # fmt: skip
PREFIXES = {
    "Y": 1e24, "Z": 1e21, "E": 1e18, "P": 1e15, "T": 1e12, "G": 1e9, "M": 1e6, "k": 1e3, "h": 1e2,
    "da": 1e1, "e": 1e1, "d": 1e-1, "c": 1e-2, "m": 1e-3, "u": 1e-6, "n": 1e-9, "p": 1e-12,
    "f": 1e-15, "a": 1e-18, "z": 1e-21, "y": 1e-24,
}  # fmt: skip
BINARY = {"ki": 2.0**10, "Mi": 2.0**20, "Gi": 2.0**30, "Ti": 2.0**40, "Pi": 2.0**50, "Ei": 2.0**60}
UNITS = {
    code.rstrip("*"): (kind, size, code.endswith("*"))
    for kind, units in _KINDS.items()
    for code, size in units.items()
}
# degrees: what a degree is in kelvin, and the kelvin at 0 degrees
TEMPERATURES = {
    "C": (1.0, 273.15), "cel": (1.0, 273.15), "F": (5 / 9, 459.67 * 5 / 9),
    "fah": (5 / 9, 459.67 * 5 / 9), "K": (1.0, 0.0), "kel": (1.0, 0.0), "Rank": (5 / 9, 0.0),
    "Reau": (1.25, 273.15),
}  # fmt: skip


def _unit(code: str) -> tuple[str, float]:
    """Return the kind of a unit and its size; raises ResultError for one that is not known."""
    if code in UNITS:
        return UNITS[code][:2]
    for prefix, factor in [*PREFIXES.items(), *BINARY.items()]:
        kind, size, prefixed = UNITS.get(code.removeprefix(prefix), ("", 0.0, False))
        binary = prefix in BINARY
        if code.startswith(prefix) and prefixed and (not binary or kind == "information"):
            return kind, size * factor
    required(False, NA)
    raise AssertionError


@function("CONVERT", "ntt")
def _convert(amount: float, begin: str, end: str) -> Value:
    """Return an amount in another unit of the same kind, such as from "mi" to "km"."""
    if begin in TEMPERATURES and end in TEMPERATURES:
        (degree, zero), (other, start) = TEMPERATURES[begin], TEMPERATURES[end]
        return (amount * degree + zero - start) / other
    (kind, size), (wanted, unit) = _unit(begin), _unit(end)
    required(kind == wanted, NA)
    return amount * size / unit
