"""The five rights, as groups. Whoever could sign in before could do everything: that stays until it is taken."""

from __future__ import annotations

from django.conf import settings
from django.db import migrations

RIGHTS = ("look", "plan", "run", "approve", "keep")


def give(apps, _):
    group = apps.get_model("auth", "Group")
    groups = [group.objects.get_or_create(name=name)[0] for name in RIGHTS]
    for user in apps.get_model("auth", "User").objects.all():
        user.groups.add(*groups)


class Migration(migrations.Migration):
    dependencies = [migrations.swappable_dependency(settings.AUTH_USER_MODEL), ("auth", "0012_alter_user_first_name_max_length")]

    operations = [migrations.RunPython(give, migrations.RunPython.noop)]
