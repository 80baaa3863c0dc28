"""What is left out is called an exclusion; its table stays where it is."""

from django.db import migrations


class Migration(migrations.Migration):
    dependencies = [("baselines", "0002_leftout")]
    operations = [migrations.RenameModel(old_name="LeftOut", new_name="Exclusion")]
