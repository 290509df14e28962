"""Berths sold above capacity: an outcome far from normal, and what its standard deviation does not
say.

Run it: python examples/overbooking.py
"""

from importlib.resources import files

import kindynos as kd

model = kd.load_model(files("kindynos.demo").joinpath("berths.toml"))
SEEDS = 200

if __name__ == "__main__":
    profit = model.simulate(20_000, seed=11)["profit"]
    low, high = profit.mean - 2 * profit.sd, profit.mean + 2 * profit.sd
    print(
        f"mean {profit.mean:,.0f}, sd {profit.sd:,.0f}: mean ± 2 sd would be {low:,.0f} to "
        f"{high:,.0f} EUR,"
    )
    beyond = 100 * profit.chance(below=low)
    print(
        f"but the most a sailing can earn is {profit.highest:,.0f}, and {beyond:.1f} % end below "
        "the low end"
    )
    p1, p95 = profit.percentile(1), profit.percentile(95)
    print(
        f"the trials say it plainly: P1 {p1:,.0f}, P5 {profit.percentile(5):,.0f}, P95 "
        f"{p95:,.0f} EUR"
    )
    exact = model.simulate(400_000, seed=1, sampling="sobol")["profit"].mean
    runs = [
        model.simulate(2000, seed=seed, sampling="random")["profit"].mean for seed in range(SEEDS)
    ]
    hits = sum(mean.low <= exact <= mean.high for mean in runs)
    print(
        f"\nthe error of the mean is right all the same: in {hits} of {SEEDS} runs of 2,000 "
        "trials its 95 % interval"
    )
    print(f"covers the mean of a run two hundred times as long, {exact:,.0f} EUR")
