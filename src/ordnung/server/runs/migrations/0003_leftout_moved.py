"""``LeftOut`` is a model of ``baselines`` now; nothing in the database changes."""

from django.db import migrations


class Migration(migrations.Migration):
    dependencies = [("runs", "0002_overriding"), ("baselines", "0002_leftout")]
    operations = [migrations.SeparateDatabaseAndState(state_operations=[migrations.DeleteModel(name="LeftOut")])]
