"""How Sphinx builds the site: ``make site``. What is made from the code is written first, by the
modules of ``_site``.
"""

import sys
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent))

from _site import reference, terms, words

import kindynos

reference.write()

project = "Kindynos"
author = "The Kindynos developers"
copyright = "2026, The Kindynos developers"  # noqa: A001  # as Sphinx names it
version = release = kindynos.__version__

extensions = [
    "myst_parser",
    "sphinx.ext.autodoc",
    "sphinx.ext.autosummary",
    "sphinx.ext.napoleon",
    "sphinx_copybutton",
    "sphinx_design",
]
exclude_patterns = ["_build", "_site", "_proofs", "demo", "screenshots/*.py"]
myst_enable_extensions = ["colon_fence", "deflist", "attrs_inline"]
myst_heading_anchors = 3
suppress_warnings = ["myst.header"]  # README begins at its own level
nitpicky = False
autosummary_generate = False
autodoc_typehints = "signature"
autodoc_typehints_format = "short"
autodoc_member_order = "bysource"
copybutton_prompt_text = r"\$ |>>> |>     "
copybutton_prompt_is_regexp = True

smartquotes = False  # options begin with two hyphens

html_theme = "furo"
html_title = "Kindynos"
html_static_path = ["_static"]
html_js_files = ["accessible.js"]
html_copy_source = False
html_show_sphinx = False


def setup(app):
    app.connect("source-read", terms.read)
    app.connect("source-read", words.read)
