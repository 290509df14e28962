"""A browser without a window, in which tests open pages."""

import os
import shutil
import sys
import unittest

from tests.common import Folder

CHROMIUM, DRIVER = shutil.which("chromium"), shutil.which("chromedriver")


def browser(width: int = 1280):
    """Return a browser without a window; skips, or with CI set fails, where there is none."""
    if CHROMIUM is None or DRIVER is None:
        if os.environ.get("CI") and not os.environ.get("KINDYNOS_NO_BROWSER"):
            raise AssertionError("CI needs chromium and chromium-driver")
        print("\nNO BROWSER: TESTS OF PAGES ARE LEFT OUT", file=sys.stderr)
        raise unittest.SkipTest("no chromium")
    from selenium import webdriver
    from selenium.webdriver.chrome.service import Service

    options = webdriver.ChromeOptions()
    options.binary_location = CHROMIUM
    for word in ("--headless=new", "--no-sandbox", "--disable-gpu", f"--window-size={width},900"):
        options.add_argument(word)
    options.set_capability("goog:loggingPrefs", {"browser": "ALL", "performance": "ALL"})
    return webdriver.Chrome(options=options, service=Service(DRIVER))


class BrowserCase(Folder):
    """Tests that open a page of a result."""

    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.browser = browser()
        cls.addClassCleanup(cls.browser.quit)

    def open(self, result) -> None:
        """Open the page of a result, and see that it is ready without a message."""
        path = self.folder / "page.html"
        result.report(path)
        self.browser.get(path.as_uri())
        ready = self.browser.execute_script("return document.documentElement.dataset.ready")
        self.assertEqual(ready, "yes")
        self.assertEqual(self.browser.get_log("browser"), [])

    def ask(self, script: str, *arguments):
        """Return what a script says of the page."""
        return self.browser.execute_script(script, *arguments)
