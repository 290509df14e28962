"""A statistic of a path: the median month of next year's passengers, with the process's parameters
as fitted and uncertain.

Run it: python examples/passengers.py. The demo file median_month.toml is the same as a model file.
"""

import kindynos as kd

TRIALS, SEED, TARGET = 20_000, 11, 36_000


def model(process: kd.Arima, uncertain: bool) -> kd.Model:
    """Return a model of next year's months, whose outcome is the median of them."""
    made = kd.Model("Passengers next year", periods=12, start="2028-01", every="month")
    made.driver(
        "passengers", process, uncertain=uncertain, unit="passengers", source="ten years of months"
    )
    made.outcome("median_month", "median(passengers)", unit="passengers", target=TARGET)
    return made


def main() -> None:
    history = kd.read_series(kd.demo_file("passengers.csv"))
    # The best of kd.fit_series(history), which takes seconds; here only this one is fitted.
    process = kd.Arima.fit(
        history, order=(1, 0, 1), seasonal=(1, 1, 1, 12), log=True, constant=True
    )
    models = {"as fitted": model(process, False), "uncertain": model(process, True)}
    runs = {
        name: item.simulate(TRIALS, seed=SEED, keep=["passengers"]) for name, item in models.items()
    }
    for name, run in runs.items():
        median = run["median_month"]
        low, high = median.central_range(0.90)
        print(
            f"parameters {name}: median month {median.mean:,.0f} on average, 90 % of trials "
            f"{low:,.0f} to {high:,.0f};"
        )
        print(
            f"  above {TARGET:,} with chance {100 * median.chance(above=TARGET):.0f} %; "
            f"{median.normality().verdict}"
        )
    kd.compare(runs).show()


if __name__ == "__main__":
    main()
