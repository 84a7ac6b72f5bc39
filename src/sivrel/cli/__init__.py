"""The command line. `--json` prints one JSON object on standard output; everything else goes to standard error.

Exit: 0 done, 1 failed, 2 wrong use or bad input, 130 cancelled. Each command is a module of this package, and a call to the library.
"""

import os
import sys

import click

from .. import __version__
from ..core import machine
from ..core.errors import InputError
from . import (
    advise,
    budget,
    caches,
    compare,
    diagnose,
    export,
    finish,
    helper,
    keys,
    ladder,
    layer,
    match,
    mattes,
    recipes,
    render,
    sequence,
    serve,
    survey,
    warm,
)
from .common import threads_option


@click.group(context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 110}, no_args_is_help=False)
@click.version_option(__version__, message="%(version)s")
@threads_option
@click.option("--memory", type=float, default=0.0, envvar="SIVREL_MEMORY", metavar="GB", help="Most memory; default: the machine's.")
@click.option("--nice", type=int, default=0, envvar="SIVREL_NICE", metavar="N", help="Niceness of the work, 0 to 19.")
def cli(threads: int, memory: float, nice: int) -> None:
    """Choose, tune and diagnose ways of finding bounced light and shadows."""
    wanted = machine.Limits(threads, memory, nice)
    machine.limit(wanted)
    for name, value in (("THREADS", threads), ("MEMORY", memory), ("NICE", nice)):
        if value:
            os.environ[f"SIVREL_{name}"] = f"{value:g}"  # for the processes that the command starts


for _command in (
    serve.demo, serve.serve, render.render, sequence.sequence, layer.layer,
    mattes.mattes, survey.survey, diagnose.diagnose, ladder.ladder, budget.budget,
    match.match, advise.advise, export.export, recipes.recipes, caches.caches, finish.finish, compare.compare, keys.keys, warm.warm, helper.helper,
):  # fmt: skip
    cli.add_command(_command)


def main(arguments: list[str] | None = None) -> int:
    """Run a command and return its exit code; every failure is one sentence on standard error."""
    try:
        code = cli.main(arguments, prog_name="sivrel", standalone_mode=False)
        sys.stdout.flush()
        return int(code or 0)
    except click.UsageError as error:
        command = error.ctx.command_path if error.ctx is not None else "sivrel"
        _say(f"{' '.join(error.format_message().split()).rstrip('.')}; `{command} --help` shows how to use it.")
        return 2
    except InputError as error:
        _say(str(error))
        return 2
    except (KeyboardInterrupt, click.Abort):
        print("cancelled", file=sys.stderr)
        return 130
    except BrokenPipeError:
        # The reader has closed the pipe; the rest of the buffer must not be written at exit.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return 0
    except OSError as error:
        _say(f"{error.strerror or error}: {error.filename or ''}".rstrip(": "))
        return 1
    except MemoryError:
        _say("there is not enough memory for this; render it smaller, or with fewer passes.")
        return 1
    except Exception as error:
        if os.environ.get("SIVREL_DEBUG"):
            raise
        _say(f"this failed because of a bug ({type(error).__name__}); set SIVREL_DEBUG=1 and report its output.")
        return 1


def _say(sentence: str) -> None:
    print(f"sivrel: {sentence}", file=sys.stderr, flush=True)
