"""``manage.py rotate_vault``: encrypt every secret of the site under a new key, and forget the old ones."""

from __future__ import annotations

import getpass
import secrets

from django.core.management.base import BaseCommand
from django.db import transaction

from ordnung.server import vault
from ordnung.server.audit.trail import append
from ordnung.server.fleet.models import Search, Server


class Command(BaseCommand):
    help = "Encrypt every secret under a new key. The site may run meanwhile; a crash leaves all of them readable."

    def handle(self, **options: object) -> None:
        path, old = vault.key_path(), vault.key_file()
        name = vault.new_id()
        keys = {**old.keys, name: secrets.token_bytes(32)}
        vault.write_keys(vault.KeyFile(name, keys, old.purposes), path)
        count, lost = 0, []
        with transaction.atomic():
            for row in Server.objects.exclude(sealed_password=b""):
                try:
                    row.set_password(vault.decrypt(bytes(row.sealed_password), "server", row.name))
                except ValueError as error:
                    lost.append(row.name)
                    row.clear_password(str(error))
                row.save(update_fields=["sealed_password", "cleared"])
                count += 1
            Search.objects.exclude(sealed_password=b"").update(sealed_password=b"")
            summary = {"key": name, "secrets": count, "lost": lost}
            append(
                who=getpass.getuser(), where="this machine", command="change the key of secrets", on={}, after=summary
            )
        vault.write_keys(vault.KeyFile(name, {name: keys[name]}, old.purposes), path)
        self.stdout.write(f"{count - len(lost)} secrets are under key {name}; the old keys are gone.")
        if lost:
            self.stdout.write(f"Could not be read, and are to be entered again: {', '.join(lost)}")
