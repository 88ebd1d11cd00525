"""How the site is built: ``make docs`` (Sphinx, MyST); warnings are errors."""

from __future__ import annotations

from spectrane.model.version import VERSION

project, author, release = "Spectrane", "the Spectrane developers", VERSION
extensions = ["myst_parser", "sphinx.ext.autodoc", "sphinx.ext.viewcode"]
source_suffix = {".md": "markdown"}
exclude_patterns = ["_build", "_generated/gallery/*.py"]
myst_enable_extensions = ["colon_fence", "deflist"]
myst_heading_anchors = 3
autodoc_member_order = "bysource"
autodoc_typehints = "signature"
autodoc_preserve_defaults = True
python_use_unqualified_type_names = True
python_maximum_signature_line_length = 88
add_module_names = False
suppress_warnings = ["ref.python"]  # names that several classes have
html_theme = "pydata_sphinx_theme"
html_title = "Spectrane"
html_static_path = ["site"]
html_css_files = ["site.css"]
html_show_sourcelink = False
html_copy_source = False
html_theme_options = {
    "show_prev_next": True, "navigation_with_keys": True, "secondary_sidebar_items": ["page-toc"],
    "navbar_align": "left", "footer_start": [], "footer_end": [], "use_edit_page_button": False,
}  # fmt: skip
pygments_style = "tango"
