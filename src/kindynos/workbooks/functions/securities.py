"""Bonds and bills by the conventions of the trade: coupons, prices, yields and durations.

``basis`` counts days by 30/360 (0), actual days (1), actual/360 (2), actual/365 (3) or the European
30/360 (4). Sources: OpenFormula, section 6.12; Mayle, Standard Securities Calculation Methods
(1993).
"""

from __future__ import annotations

import calendar
import datetime
import math
from collections.abc import Callable

from kindynos.workbooks.cell_errors import NUM
from kindynos.workbooks.functions.dates import days_360, year_share
from kindynos.workbooks.functions.registry import bounded, function, required, whole
from kindynos.workbooks.serials import date_of, serial_of
from kindynos.workbooks.values import Value

MOST_COUPONS = 4_000
STEPS, CLOSE = 100, 1e-13  # of the search of a yield


def _months_before(end: datetime.date, months: int) -> datetime.date:
    """Return the date a number of months before a date; the end of a month stays one."""
    month = end.year * 12 + end.month - 1 - months
    year, month = divmod(month, 12)
    required(year >= 1)
    last = calendar.monthrange(year, month + 1)[1]
    at_end = end.day == calendar.monthrange(end.year, end.month)[1]
    return datetime.date(year, month + 1, last if at_end else min(end.day, last))


class _Coupons:
    """The coupons of a bond between settlement and maturity."""

    def __init__(self, settlement: float, maturity: float, frequency: float, basis: float) -> None:
        self.settled, self.matures = date_of(settlement), date_of(maturity)
        self.frequency, self.basis = whole(frequency), whole(basis)
        required(self.frequency in (1, 2, 4) and 0 <= self.basis <= 4)
        required(self.settled < self.matures)
        self.months = 12 // self.frequency
        years = self.matures.year - self.settled.year + 1
        bounded(years * self.frequency, MOST_COUPONS, NUM)
        count = 1
        while _months_before(self.matures, count * self.months) > self.settled:
            count += 1
        self.count = count  # of coupons after settlement
        self.before = _months_before(self.matures, count * self.months)
        self.after = _months_before(self.matures, (count - 1) * self.months)

    def days(self, begin: datetime.date, end: datetime.date) -> float:
        """Return the days between two dates."""
        if self.basis in (0, 4):
            return days_360(begin, end, self.basis == 4)
        return (end - begin).days

    @property
    def period(self) -> float:
        """The days of the period in which settlement lies."""
        if self.basis == 1:
            return (self.after - self.before).days
        return (365 if self.basis == 3 else 360) / self.frequency

    @property
    def gone(self) -> float:
        """The days from the last coupon to settlement."""
        return self.days(self.before, self.settled)

    @property
    def left(self) -> float:
        """The days from settlement to the next coupon."""
        if self.basis in (0, 4):
            return self.period - self.gone
        return (self.after - self.settled).days

    def price(self, rate: float, rate_of_return: float, redemption: float) -> float:
        """Return the clean price of 100 at a yield."""
        coupon, share = 100 * rate / self.frequency, self.left / self.period
        accrued = coupon * self.gone / self.period
        y = rate_of_return / self.frequency
        if self.count == 1:
            return (redemption + coupon) / (1 + share * y) - accrued
        required(y > -1)
        coupons = math.fsum(coupon / (1 + y) ** (k + share) for k in range(self.count))
        last = redemption / (1 + y) ** (self.count - 1 + share)
        return float(last + coupons - accrued)


@function("PRICE", "ddnnnn[n]")
def _price(
    settlement: float,
    maturity: float,
    rate: float,
    rate_of_return: float,
    redemption: float,
    frequency: float,
    basis: float = 0.0,
) -> Value:
    """Return the price of 100 of a bond, without accrued interest."""
    required(rate >= 0 and redemption > 0)
    return _Coupons(settlement, maturity, frequency, basis).price(rate, rate_of_return, redemption)


@function("YIELD", "ddnnnn[n]")
def _yield(
    settlement: float,
    maturity: float,
    rate: float,
    price: float,
    redemption: float,
    frequency: float,
    basis: float = 0.0,
) -> Value:
    """Return the yield of a bond at a price of 100, as coupons are paid."""
    required(rate >= 0 and price > 0 and redemption > 0)
    coupons = _Coupons(settlement, maturity, frequency, basis)
    return _root(lambda y: coupons.price(rate, y, redemption) - price)


def _root(gap: Callable[[float], float]) -> float:
    """Return where a price that falls with the yield is the one that is paid."""
    low, high = -0.9, 1.0
    while gap(high) > 0:
        high *= 2
        required(high < 1e6)
    required(gap(low) >= 0)
    for _ in range(STEPS):
        middle = (low + high) / 2
        low, high = (middle, high) if gap(middle) > 0 else (low, middle)
        if high - low < CLOSE:
            break
    return (low + high) / 2


def _duration(
    settlement: float, maturity: float, rate: float, y: float, frequency: float, basis: float
) -> float:
    """Return the mean time of what a bond pays, weighed by its worth, in years."""
    required(rate >= 0 and y >= 0)
    bond = _Coupons(settlement, maturity, frequency, basis)
    coupon, factor = 100 * rate / bond.frequency, 1 + y / bond.frequency
    share = bond.left / bond.period
    paid = [(k + share, coupon + 100 * (k == bond.count - 1)) for k in range(bond.count)]
    worth = [amount / factor**time for time, amount in paid]
    times = math.fsum(time * one for (time, _), one in zip(paid, worth, strict=True))
    return times / math.fsum(worth) / bond.frequency


@function("DURATION", "ddnnn[n]")
def _macaulay(
    settlement: float, maturity: float, rate: float, y: float, frequency: float, basis: float = 0.0
) -> Value:
    """Return Macaulay's duration of a bond, in years."""
    return _duration(settlement, maturity, rate, y, frequency, basis)


@function("MDURATION", "ddnnn[n]")
def _modified(
    settlement: float, maturity: float, rate: float, y: float, frequency: float, basis: float = 0.0
) -> Value:
    """Return the modified duration: the share by which the price falls when the yield rises."""
    own = _duration(settlement, maturity, rate, y, frequency, basis)
    return own / (1 + y / whole(frequency))


def _of_coupons(name: str, figure: Callable[[_Coupons], Value], rule: str) -> None:
    """Add a function of the coupons of a bond."""

    def alone(settlement: float, maturity: float, frequency: float, basis: float = 0.0) -> Value:
        return figure(_Coupons(settlement, maturity, frequency, basis))

    alone.__doc__ = rule
    function(name, "ddn[n]")(alone)


def _serial(day: datetime.date) -> float:
    return float(serial_of(day.year, day.month, day.day))


_of_coupons("COUPNUM", lambda c: float(c.count), "Return how many coupons are left.")
_of_coupons("COUPPCD", lambda c: _serial(c.before), "Return the last coupon's date.")
_of_coupons("COUPNCD", lambda c: _serial(c.after), "Return the next coupon's date.")
_of_coupons("COUPDAYS", lambda c: c.period, "Return the days of the coupon's period.")
_of_coupons("COUPDAYBS", lambda c: float(c.gone), "Return the days since the last coupon.")
_of_coupons("COUPDAYSNC", lambda c: float(c.left), "Return the days until the next coupon.")


@function("ACCRINTM", "ddnn[n]")
def _accrintm(issue: float, maturity: float, rate: float, par: float, basis: float = 0.0) -> Value:
    """Return the interest of a paper that pays it at maturity."""
    required(rate > 0 and par > 0 and issue < maturity)
    return par * rate * year_share(date_of(issue), date_of(maturity), whole(basis))


@function("ACCRINT", "dddnnn[nb]")
def _accrint(
    issue: float,
    first: float,
    settlement: float,
    rate: float,
    par: float,
    frequency: float,
    basis: float = 0.0,
    from_issue: bool = True,
) -> Value:
    """Return the interest that has accrued from issue, or from the first coupon, to settlement."""
    required(rate > 0 and par > 0 and issue < settlement)
    required(whole(frequency) in (1, 2, 4))
    begin = issue if from_issue or settlement <= first else first
    return par * rate * year_share(date_of(begin), date_of(settlement), whole(basis))


def _years(settlement: float, maturity: float, basis: float) -> float:
    required(settlement < maturity)
    return year_share(date_of(settlement), date_of(maturity), whole(basis))


@function("DISC", "ddnn[n]")
def _disc(
    settlement: float, maturity: float, price: float, redemption: float, basis: float = 0.0
) -> Value:
    """Return the discount rate of a paper."""
    required(price > 0 and redemption > 0)
    return (redemption - price) / redemption / _years(settlement, maturity, basis)


@function("INTRATE", "ddnn[n]")
def _intrate(
    settlement: float, maturity: float, paid: float, redemption: float, basis: float = 0.0
) -> Value:
    """Return the rate of interest of a paper that is paid back at once."""
    required(paid > 0 and redemption > 0)
    return (redemption - paid) / paid / _years(settlement, maturity, basis)


@function("RECEIVED", "ddnn[n]")
def _received(
    settlement: float, maturity: float, paid: float, discount: float, basis: float = 0.0
) -> Value:
    """Return what a paper that was bought at a discount pays."""
    left = 1 - discount * _years(settlement, maturity, basis)
    required(paid > 0 and discount > 0 and left > 0)
    return paid / left


@function("PRICEDISC", "ddnn[n]")
def _pricedisc(
    settlement: float, maturity: float, discount: float, redemption: float, basis: float = 0.0
) -> Value:
    """Return the price of 100 of a paper at a discount."""
    required(discount > 0 and redemption > 0)
    return redemption * (1 - discount * _years(settlement, maturity, basis))


@function("YIELDDISC", "ddnn[n]")
def _yielddisc(
    settlement: float, maturity: float, price: float, redemption: float, basis: float = 0.0
) -> Value:
    """Return the yearly yield of a paper at a discount."""
    required(price > 0 and redemption > 0)
    return (redemption / price - 1) / _years(settlement, maturity, basis)


def _bill_days(settlement: float, maturity: float) -> int:
    """Return the days of a bill of a year at most."""
    begin, end = date_of(settlement), date_of(maturity)
    required(begin < end and (end - begin).days <= 366)
    return (end - begin).days


@function("TBILLPRICE", "ddn")
def _tbillprice(settlement: float, maturity: float, discount: float) -> Value:
    """Return the price of 100 of a bill."""
    left = 1 - discount * _bill_days(settlement, maturity) / 360
    required(discount > 0 and left > 0)
    return 100 * left


@function("TBILLYIELD", "ddn")
def _tbillyield(settlement: float, maturity: float, price: float) -> Value:
    """Return the yield of a bill."""
    required(price > 0)
    return (100 - price) / price * 360 / _bill_days(settlement, maturity)


@function("TBILLEQ", "ddn")
def _tbilleq(settlement: float, maturity: float, discount: float) -> Value:
    """Return the yield of a bill as a bond's: of half a year at most."""
    days = _bill_days(settlement, maturity)
    required(discount > 0 and 360 - discount * days > 0 and days <= 182)
    return 365 * discount / (360 - discount * days)
