"""Tests of the documentation: every page is done as a reader would do it."""

import contextlib
import importlib
import os
import re
import shutil
import sys
import tempfile
from pathlib import Path
from unittest import mock

import kindynos as kd
from kindynos.distributions.catalogue import CATALOGUE
from kindynos.processes.registry import PROCESSES
from tests.common import Case, proof
from tests.pages import Page, all_pages, figures_without_source, same

ROOT = Path(__file__).resolve().parents[1]


def is_first(page):
    return page.name == "README.md" or page.parent.name == "start"


class Pages(Case):
    def test_the_first_pages_show_what_their_blocks_print(self):
        self._check([page for page in all_pages() if is_first(page)])

    @proof
    def test_all_other_pages_do_so_too(self):
        self._check([page for page in all_pages() if not is_first(page)])

    def _check(self, paths):
        self.assertGreater(len(paths), 2)
        for path in paths:
            with self.subTest(page=path.name):
                page = Page(path)
                now, shown = page.done(), path.read_text(encoding="utf-8")
                self.assertEqual(page.problems, [])
                self.assertTrue(same(shown, now), f"{path.name}: run make pages, and read it")

    def test_figures_in_sentences_stand_in_a_block(self):
        for path in all_pages():
            if path.parent.name == "reference" or path.name == "cluster.md":
                continue  # whose figures are limits, and measured by benchmarks
            text = path.read_text(encoding="utf-8")
            self.assertEqual(figures_without_source(text), [], path.name)

    def test_the_first_sentences_ask_a_question_and_the_last_say_what_next(self):
        for path in sorted((ROOT / "docs" / "how-to").glob("*.md")):
            text = path.read_text(encoding="utf-8")
            self.assertIn("?", text[:700], path.name)
            if path.name != "index.md":
                self.assertIn("**Next:**", text, path.name)

    def test_words_are_linked_to_their_terms_and_nothing_else_is_touched(self):
        with mock.patch.object(sys, "path", [str(ROOT / "docs"), *sys.path]):
            terms = importlib.import_module("_site.terms")
        anchors = terms.anchored((ROOT / "docs" / f"{terms.PAGE}.md").read_text(encoding="utf-8"))
        link = re.compile(r'<a href="\.\./reference/terms\.html#([\w-]+)">([^<]+)</a>')
        linked = set()
        for path in sorted((ROOT / "docs" / "how-to").glob("*.md")):
            text = path.read_text(encoding="utf-8")
            now = terms.linked(text)
            self.assertEqual(link.sub(r"\2", now), text, path.name)
            found = link.findall(now)
            self.assertEqual(len({place for place, _ in found}), len(found), path.name)
            linked |= {place for place, _ in found}
        self.assertGreater(len(linked), 10)
        for place in linked:
            self.assertIn(f'<a id="{place}"></a>', anchors)
        for text, now in (
            ("`copula` and [a copula](x.md)", 0),
            ("```text\na copula\n```\n| a copula |\n# a copula", 0),
            ("Copulas, and a copula", 1),
        ):
            self.assertEqual(len(link.findall(terms.linked(text))), now, text)

    def test_links_and_pictures_are_there(self):
        for page in (*all_pages(), ROOT / "CONTRIBUTING.md"):
            text = page.read_text(encoding="utf-8")
            for link in re.findall(r"\]\(([^)#:]+)(?:#[^)]*)?\)", text):
                if "/made/" not in link and not link.startswith("made/"):  # written by make site
                    self.assertTrue((page.parent / link).exists(), f"{page.name}: {link}")

    def test_a_large_run_goes_as_its_page_says(self):
        page = (ROOT / "docs" / "how-to" / "cluster.md").read_text(encoding="utf-8")
        code = re.findall(r"^```python no-run\n(.*?)^```", page, re.M | re.S)[0]
        for large, small in (("10**8", "10**5"), ("77_000_000", "77_000")):
            self.assertIn(large, code)
            code = code.replace(large, small)
        names: dict = {}
        with tempfile.TemporaryDirectory() as folder, contextlib.chdir(folder):
            shutil.copy(kd.demo_file("night_ferry.toml"), folder)
            exec(code, names)
            self.assertEqual(sorted(os.listdir(folder)), ["ferry.npz", "night_ferry.toml"])
        self.assertEqual(names["run"].size, 10**5)

    def test_the_parts_of_the_page_on_model_files_are_one_model(self):
        page = (ROOT / "docs" / "reference" / "model-files.md").read_text(encoding="utf-8")
        blocks = re.findall(r"^```toml\n(.*?)^```", page, re.M | re.S)
        self.assertGreater(len(blocks), 6)
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder, "harbour.toml")
            path.write_text("".join(b for b in blocks if "items.csv" not in b), encoding="utf-8")
            model = kd.load_model(path)
        self.assertEqual(sorted(model.scenarios), ["dear fuel", "higher fee"])
        self.assertEqual(model.simulate(400, seed=1)["net_value"].n_failed, 0)

    def test_words_that_people_type_lead_to_a_guide(self):
        with mock.patch.object(sys, "path", [str(ROOT / "docs"), *sys.path]):
            entries = importlib.import_module("_site.words").entries()
        leads = {word: page for page, words in entries.items() for word in words}
        for page in entries:
            self.assertTrue((ROOT / "docs" / f"{page}.md").is_file(), page)
        for word, page in (
            ("option", "how-to/positions"),
            ("mortgage", "how-to/cash-flows"),
            ("ruin", "how-to/retirement"),
            ("overtime", "start/tasks"),
            ("tornado", "how-to/drivers"),
            ("VaR", "how-to/value-at-risk"),
            ("default", "how-to/claims"),
            ("goal seek", "how-to/solve"),
            ("Excel", "start/workbook"),
        ):
            self.assertEqual(leads[word], page)

    def test_the_guides_have_every_distribution_and_process(self):
        with mock.patch.object(sys, "path", [str(ROOT / "docs"), *sys.path]):
            choices = importlib.import_module("_site.choices")
        named = [entry for group in choices.DISTRIBUTIONS.values() for entry in group]
        self.assertEqual(sorted(name for name, *_ in named), sorted(CATALOGUE))
        self.assertEqual(sorted(name for name, *_ in choices.PROCESSES), sorted(PROCESSES))
        kinds = {**CATALOGUE, **PROCESSES}
        for name, example, caution in [*named, *choices.PROCESSES]:
            if name != "affine":  # arithmetic makes it
                self.assertIn(kinds[name].__name__.lower()[:4], example.lower(), name)
            self.assertTrue(caution.endswith("."), name)
