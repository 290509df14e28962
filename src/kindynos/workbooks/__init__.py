"""Models in workbooks: cells as given figures, drivers and outcomes, and formulas worked out over
all trials at once.

The formulas are those of ISO/IEC 29500; where that leaves a meaning open, it is that of OpenFormula
(OASIS).
"""
