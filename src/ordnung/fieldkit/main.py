"""The ``ordnung`` command: reads and writes the formats of ``docs/formats``, prints tables or JSON.

Exit status: 0 done, 1 the answer is no, 2 wrong usage, 3 something could not be reached.
"""

from __future__ import annotations

import sys

import click

from ordnung.controllers import ControllerError
from ordnung.core.media import TooLargeError
from ordnung.fieldkit import (
    advisory,
    audit,
    bom,
    catalog,
    host_report,
    level,
    package,
    planning,
    processes,
    record,
    repository,
    seal,
    sheet,
    surveying,
    timetable,
)
from ordnung.formats.errors import FormatError
from ordnung.store import RepositoryError

NO, USAGE, UNREACHED = 1, 2, 3


@click.group()
@click.version_option(package_name="ordnung")
def cli() -> None:
    """Keep the firmware of rack servers in order."""


for command in (
    processes.demo,
    processes.serve,
    processes.standins,
    processes.fault,
    surveying.survey,
    host_report.host_report,
    planning.drift,
    planning.route,
    level.level,
    timetable.timetable,
    catalog.catalog,
    advisory.advisory,
    bom.bom,
    package.package,
    repository.repository,
    seal.seal,
    audit.audit,
    sheet.sheet,
    record.record,
):
    cli.add_command(command)


def main() -> None:
    """Run the command; every known failure is one sentence on standard error."""
    try:
        code = cli.main(standalone_mode=False)
    except click.ClickException as error:
        error.show()
        sys.exit(error.exit_code)
    except (click.Abort, KeyboardInterrupt):
        sys.exit(130)
    except (FormatError, TooLargeError) as error:
        _fail(str(error), NO)
    except RepositoryError as error:
        _fail(str(error), UNREACHED if error.code == "unreachable" else NO)
    except ControllerError as error:
        _fail(f"{error}. {error.remedy}", UNREACHED)
    except OSError as error:
        _fail(f"{error.filename or 'file'}: {error.strerror}", USAGE)
    sys.exit(code if isinstance(code, int) else 0)


def _fail(sentence: str, code: int) -> None:
    click.echo(sentence, err=True)
    sys.exit(code)


if __name__ == "__main__":
    main()
