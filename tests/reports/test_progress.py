"""Tests of the bar of long work: where it shows, and that it ends."""

import io
import unittest
from unittest import mock

import kindynos as kd
from kindynos.reports import progress
from tests.common import investment


class Watched(io.StringIO):
    def isatty(self):
        return True


class Bar(unittest.TestCase):
    def shown(self, stream, patience):
        with (
            mock.patch.object(progress, "PATIENCE", patience),
            mock.patch("sys.stderr", stream),
            kd.ProgressBar("counting sheep") as update,
        ):
            found = investment().simulate(20_000, seed=1, progress=update)
        self.assertEqual(found.size, 20_000)
        return stream.getvalue()

    def test_on_a_terminal_after_a_moment(self):
        self.assertIn("counting sheep", self.shown(Watched(), -1.0))
        self.assertEqual(self.shown(Watched(), 60.0), "")

    def test_nowhere_else(self):
        self.assertEqual(self.shown(io.StringIO(), -1.0), "")

    def test_in_a_notebook(self):
        shell = type("ZMQInteractiveShell", (), {})()
        module = mock.Mock(get_ipython=lambda: shell)
        with (
            mock.patch.dict("sys.modules", {"IPython": module}),
            mock.patch("sys.stderr", io.StringIO()),
        ):
            self.assertTrue(progress._is_watched())


if __name__ == "__main__":
    unittest.main()
