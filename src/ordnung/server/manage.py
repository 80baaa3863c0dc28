"""``python -m ordnung.server.manage``: Django's own commands for this site."""

import os
import sys

if __name__ == "__main__":
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "ordnung.server.settings")
    from django.core.management import execute_from_command_line

    from ordnung.formats.logs import configure_logs

    configure_logs(for_people=True)
    execute_from_command_line(sys.argv)
