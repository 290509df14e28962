"""Run all tests and doctests: ``python -m tests``. The last line says how many passed and failed."""

import sys
import unittest

if __name__ == "__main__":
    suite = unittest.defaultTestLoader.discover("tests", top_level_dir=".")
    result = unittest.TextTestRunner(verbosity=1).run(suite)
    bad = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    skipped = len(result.skipped)
    print(f"{result.testsRun - bad - skipped} passed, {bad} failed" + (f", {skipped} skipped" if skipped else ""))
    sys.exit(bool(bad))
