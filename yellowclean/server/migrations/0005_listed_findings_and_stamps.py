"""Findings of a survey for lists, and what tells a replaced file from the one that was added."""

from django.db import migrations, models


def fill(apps, schema_editor):
    shots = apps.get_model("yellowclean", "Shot").objects
    for shot in shots.filter(survey__isnull=False).iterator(chunk_size=20):
        found = shot.survey.get("findings") if isinstance(shot.survey, dict) else None
        shot.findings = [{k: v for k, v in f.items() if k != "spots"} for f in found or [] if isinstance(f, dict)]
        shot.save(update_fields=["findings"])
    apps.get_model("yellowclean", "PlanVersion").objects.update(remaining=None)


class Migration(migrations.Migration):
    dependencies = [("yellowclean", "0004_presets")]

    operations = [
        migrations.AddField(
            "shot",
            "findings",
            models.JSONField(help_text="The survey's findings without their places, for lists.", null=True),
        ),
        migrations.AddField(
            "shot",
            "stamp",
            models.CharField(default="", help_text="Size and time of the files; tells a replacement.", max_length=64),
        ),
        migrations.RunPython(fill, migrations.RunPython.noop),
    ]
