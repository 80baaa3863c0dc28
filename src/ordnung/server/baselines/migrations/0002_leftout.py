"""What is left out belongs to the baseline's side of things; its table stays where it is and what it is."""

from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("baselines", "0001_initial"), ("runs", "0002_overriding")]
    operations = [
        migrations.SeparateDatabaseAndState(
            state_operations=[
                migrations.CreateModel(
                    name="LeftOut",
                    fields=[
                        ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                        ("server", models.CharField(max_length=200)),
                        ("slot", models.CharField(max_length=200)),
                        ("reason", models.TextField()),
                        ("by", models.CharField(max_length=150)),
                        ("at", models.DateTimeField()),
                        ("put_back_at", models.DateTimeField(null=True)),
                        ("put_back_by", models.CharField(default="", max_length=150)),
                    ],
                    options={
                        "db_table": "runs_leftout",
                        "constraints": [
                            models.UniqueConstraint(
                                condition=models.Q(("put_back_at", None)), fields=("server", "slot"), name="left_out_once"
                            )
                        ],
                    },
                )
            ]
        )
    ]
