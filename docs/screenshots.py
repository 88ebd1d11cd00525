"""Make the pictures of docs/screenshots from the demo data: ``make screenshots``."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
import textwrap
from pathlib import Path

from PIL import Image, ImageDraw, ImageFont

HERE = Path(__file__).resolve().parent / "screenshots"
SPECTRANE = str(Path(sys.executable).with_name("spectrane"))
SIZE = (1280, 800)
_LINE = 20
_BACK, _TEXT, _PROMPT = "#16202b", "#dbe4ec", "#7fc8a9"


def main() -> None:
    """Draw the demo, copy its pictures, and take pictures of commands in a terminal."""
    HERE.mkdir(exist_ok=True)
    with tempfile.TemporaryDirectory() as temporary:
        os.chdir(temporary)
        told = run("demo", "demo")
        for name in ("natural", "infrared", "nir_negative", "habitats"):
            shutil.copy(f"demo/{name}.png", HERE / f"render_{name}.png")
        terminal("demo.png", [("demo", told)])
        scene = "demo/sound_8band.tif"
        terminal("describe.png", [
            (f"describe {scene} --statistics", run("describe", scene, "--statistics")),
            ("describe demo/habitats.tif --json | head -4", _first_lines(4)),
        ])  # fmt: skip
        black = f"render {scene} --limits type -o black.png"
        wrong = f"render {scene} --channels nir,redd,green -o x.png"
        terminal("render_warning.png", [
            (black, run(*black.split())),
            (wrong, run(*wrong.split())),
        ])  # fmt: skip


def _first_lines(count: int) -> str:
    return "\n".join(run("describe", "demo/habitats.tif", "--json").split("\n")[:count])


def run(*arguments: str) -> str:
    """Return what a command prints, errors included."""
    done = subprocess.run(
        [SPECTRANE, *arguments], stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True,
        check=False,
    )  # fmt: skip
    return done.stdout


def terminal(name: str, talks: list[tuple[str, str]]) -> None:
    """Draw commands and their answers as a terminal of 1280 x 800 shows them."""
    font = ImageFont.truetype("DejaVuSansMono.ttf", 15)
    picture = Image.new("RGB", SIZE, _BACK)
    draw = ImageDraw.Draw(picture)
    columns, y = int((SIZE[0] - 40) / font.getlength("m")), 16
    for command, answer in talks:
        draw.text((20, y), f"$ spectrane {command}", _PROMPT, font)
        y += _LINE
        for line in answer.rstrip("\n").split("\n"):
            for part in textwrap.wrap(line, columns, drop_whitespace=False) or [""]:
                draw.text((20, y), part, _TEXT, font)
                y += _LINE
        y += _LINE
    picture = picture.crop((0, 0, SIZE[0], min(SIZE[1], y)))
    picture.save(HERE / name, optimize=True)


if __name__ == "__main__":
    main()
