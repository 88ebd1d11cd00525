"""The ``spectrane`` command: its list of commands, loaded one at a time, and its errors."""

from __future__ import annotations

import os
import sys
from typing import Any

import click

from spectrane.cli import interrupts
from spectrane.model.printing import printable_line

# Name -> (module, what it does), in the order of the work. The help page needs no more.
COMMANDS: dict[str, tuple[str, str]] = {
    "demo": ("spectrane.cli.demo", "Write the demo data and run the whole example on it."),
    "survey": ("spectrane.cli.survey", "List the rasters below a folder."),
    "describe": ("spectrane.cli.describe", "Say what a raster is: size, type, bands, place."),
    "raw": ("spectrane.cli.raw", "Describe a headerless binary, or guess its layout."),
    "amend": ("spectrane.cli.amend", "Keep corrections with a file."),
    "render": ("spectrane.cli.render", "Draw rasters as pictures."),
    "view": ("spectrane.cli.view", "See the picture while you change it, in a browser."),
    "compare": ("spectrane.cli.compare", "Show panels side by side over the same area."),
    "histogram": ("spectrane.cli.histogram", "Draw values, limits and result per channel."),
    "probe": ("spectrane.cli.probe", "Tell what stands under a point, and profiles."),
    "export": ("spectrane.cli.export", "Write data in another format, order or type."),
    "place": ("spectrane.cli.place", "Give a picture a place on a map."),
    "clip": ("spectrane.cli.clip", "Keep a part, by shapes or by what pixels hold."),
    "mosaic": ("spectrane.cli.mosaic", "Join many rasters into one."),
    "overlay": ("spectrane.cli.overlay", "Lay rasters and outlines on one another."),
    "slices": ("spectrane.cli.slices", "Draw slices of a volume, maps laid over it."),
    "sheet": ("spectrane.cli.sheet", "Make a finished map on paper, or a sheet of slices."),
    "scenes": ("spectrane.cli.scenes", "Find the scenes of a catalogue that show an area."),
    "page": ("spectrane.cli.page", "Make one HTML page, KML or KMZ of layers."),
    "tiles": ("spectrane.cli.tiles", "Make web-map tiles of layers."),
}


class Commands(click.Group):
    """A group whose commands are imported when they are run."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        """Return the commands' names in the order of the work."""
        return list(COMMANDS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        """Import one command, or return None."""
        if cmd_name not in COMMANDS:
            return None
        import importlib

        command: click.Command = importlib.import_module(COMMANDS[cmd_name][0]).command
        return command

    def resolve_command(self, ctx: click.Context, args: list[str]) -> Any:
        """Find the command asked for; an unknown one is answered with the nearest."""
        if args and args[0] not in COMMANDS:
            import difflib

            near = difflib.get_close_matches(args[0], COMMANDS, n=1)
            hint = f" Did you mean {near[0]!r}?" if near else f" There are {', '.join(COMMANDS)}."
            ctx.fail(f"No command {args[0]!r}.{hint}")
        return super().resolve_command(ctx, args)

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """Write the table of commands without importing them."""
        with formatter.section("Commands"):
            formatter.write_dl([(name, what) for name, (_, what) in COMMANDS.items()])


@click.group(
    cls=Commands, context_settings={"help_option_names": ["--help", "-h"], "max_content_width": 100}
)
@click.version_option(package_name="spectrane", message="spectrane %(version)s")
def commands() -> None:
    """Multiband and volumetric rasters become pictures a person can trust.

    Bands are counted from 1 and may be named by number, name or role.
    """


def run(arguments: list[str] | None = None) -> None:
    """Run the command line and exit: 0 done, 1 failed, 2 wrong usage, 130 interrupted."""
    # One process draws one picture: starting a pool of BLAS threads costs more than it gives.
    os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
    arguments = sys.argv[1:] if arguments is None else arguments
    debug = "--debug" in arguments
    try:
        status = commands.main(arguments, prog_name="spectrane", standalone_mode=False)
        sys.exit(status if isinstance(status, int) else 0)
    except click.ClickException as error:
        usage = getattr(error, "ctx", None)
        hint = f" (see {usage.command_path} --help)" if usage else ""
        said = printable_line(" ".join(error.format_message().split()))
        click.echo(f"error: {said}{hint}", err=True)
        sys.exit(error.exit_code)
    except (KeyboardInterrupt, click.Abort):
        click.echo("interrupted; nothing half-written is left", err=True)
        sys.exit(130)
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), 1)
        sys.exit(1)
    except Exception as error:
        if interrupts.interrupted():
            raise interrupts.Interrupted from None  # what an interrupt became on its way through
        if debug:
            raise
        click.echo(f"error: {one_line(error)}", err=True)
        sys.exit(1)


def one_line(error: BaseException) -> str:
    """Say an error in one line; what is not one of ours is said to be our fault."""
    from spectrane.model.errors import SpectraneError

    text = printable_line(" ".join(str(error).split()))
    if isinstance(error, SpectraneError):
        return text
    if isinstance(error, MemoryError):
        from spectrane.kernels.address_space import limited_space

        space = limited_space()
        bound = f", of {space >> 20} MB (ulimit -v)" if space is not None else ""
        return f"not enough memory{bound}: ask for a part, or a smaller size; {text}".rstrip("; ")
    return f"unexpected {type(error).__name__}: {text} (run again with --debug to see where)"
