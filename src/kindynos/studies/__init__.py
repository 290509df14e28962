"""Many cases of one model: scenarios, comparisons, sweeps and goals."""
