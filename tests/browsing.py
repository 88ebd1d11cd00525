"""A browser without a monitor, and what tests of pages do in it."""

from __future__ import annotations

import base64
import io
import shutil

import numpy as np
from PIL import Image

CHROMIUM = shutil.which("chromium") or shutil.which("chromium-browser")
FLAGS = ["--no-sandbox", "--disable-gpu", "--disable-quic", "--disable-background-networking",
         "--disable-component-update", "--disable-sync", "--no-first-run"]  # fmt: skip

SETTLED = """() => new Promise((done) => {
  let since = performance.now();
  const look = () => {
    if (document.body.dataset.asking !== "0") since = performance.now();
    if (performance.now() - since > 100) done(); else setTimeout(look, 10);
  };
  look();
})"""


def settle(page):
    """Wait until nothing is under way, and nothing follows within a tenth of a second."""
    page.evaluate(SETTLED)


def canvas(page, name="picture"):
    """Return a canvas, exact where it is opaque or clear."""
    url = page.evaluate(f"document.getElementById('{name}').toDataURL('image/png')")
    content = base64.b64decode(url.partition(",")[2])
    with Image.open(io.BytesIO(content)) as image:
        return np.asarray(image.convert("RGBA"))


def button(page, name):
    page.get_by_role("button", name=name, exact=True).click()
    settle(page)
