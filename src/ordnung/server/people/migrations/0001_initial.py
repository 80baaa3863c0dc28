"""The five rights, as groups, and what was answered to a request told twice."""

from __future__ import annotations

from django.db import migrations, models

RIGHTS = ("look", "plan", "run", "approve", "keep")


def make_groups(apps, _):
    for name in RIGHTS:
        apps.get_model("auth", "Group").objects.get_or_create(name=name)


class Migration(migrations.Migration):

    initial = True

    # A site that was kept by the two before this one goes on.
    replaces = [("people", "0001_rights"), ("people", "0002_answers")]

    dependencies = [("auth", "0012_alter_user_first_name_max_length")]

    operations = [
        migrations.RunPython(make_groups, migrations.RunPython.noop),
        migrations.CreateModel(
            name='KeptAnswer',
            fields=[
                ('id', models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name='ID')),
                ('person', models.CharField(max_length=150)),
                ('key', models.CharField(max_length=100)),
                ('asked', models.CharField(max_length=64)),
                ('status', models.PositiveSmallIntegerField(null=True)),
                ('body', models.BinaryField(default=b'')),
                ('kind', models.CharField(default='', max_length=100)),
                ('at', models.DateTimeField()),
            ],
            options={
                'constraints': [models.UniqueConstraint(fields=('person', 'key'), name='one_answer_a_key')],
            },
        ),
    ]
