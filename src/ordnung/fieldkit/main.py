"""The ``ordnung`` command: reads and writes the formats of ``docs/formats``, prints tables or JSON.

Exit status: 0 done, 1 the answer is no, 2 wrong usage, 3 something could not be reached.
"""

from __future__ import annotations

import importlib
import sys

import click

NO, USAGE, UNREACHED = 1, 2, 3
COMMANDS = {
    "demo": "processes",
    "serve": "processes",
    "standins": "processes",
    "fault": "processes",
    "survey": "surveying",
    "host-report": "host_report",
    "drift": "planning",
    "route": "planning",
    "level": "level",
    "timetable": "timetable",
    "catalog": "catalog",
    "advisory": "advisory",
    "bom": "bom",
    "package": "package",
    "repository": "repository",
    "seal": "seal",
    "audit": "audit",
    "sheet": "sheet",
    "record": "record",
}
"""By command, the module that has it: loaded when it is asked for, so that none waits for what the others need."""


class LoadedGroup(click.Group):
    """The commands, each from its own module."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        """Their names, in the order of the work."""
        return list(COMMANDS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        """One of them, or None where there is none of that name."""
        if cmd_name not in COMMANDS:
            return None
        module = importlib.import_module(f"ordnung.fieldkit.{COMMANDS[cmd_name]}")
        if "structlog" in sys.modules:  # what the command has loaded may log
            from ordnung.formats.logs import configure_logs

            configure_logs(for_people=True)
        command: click.Command = getattr(module, cmd_name.replace("-", "_"))
        return command


@click.group(cls=LoadedGroup)
@click.version_option(package_name="ordnung")
def cli() -> None:
    """Keep the firmware of rack servers in order."""


def main() -> None:
    """Run the command; every known failure is one sentence on standard error."""
    try:
        code = cli.main(standalone_mode=False)
    except click.ClickException as error:
        error.show()
        sys.exit(error.exit_code)
    except (click.Abort, KeyboardInterrupt):
        sys.exit(130)
    except Exception as error:
        sentence, code = _tell(error)
        if not sentence:
            raise
        click.echo(sentence, err=True)
    sys.exit(code if isinstance(code, int) else 0)


def _tell(error: Exception) -> tuple[str, int]:
    """What is said of a failure and the exit status; nothing for one that is a fault of ours."""
    # Only now: whatever raised one of these has loaded its module, and a command that went well needs none.
    from ordnung.controllers import ControllerError
    from ordnung.core.media import TooLargeError
    from ordnung.formats.errors import FormatError
    from ordnung.store import RepositoryError

    match error:
        case FormatError() | TooLargeError():
            return str(error), NO
        case RepositoryError():
            return str(error), UNREACHED if error.code == "unreachable" else NO
        case ControllerError():
            return f"{error}. {error.remedy}", UNREACHED
        case OSError():
            return f"{error.filename or 'file'}: {error.strerror}", USAGE
        case _:
            return "", 0


if __name__ == "__main__":
    main()
