"""What results hold of the disk, counted for those that are there."""

from django.core.files.storage import default_storage
from django.db import migrations, models


def count(apps, schema_editor):
    for row in apps.get_model("jobs", "RenderFile").objects.all():
        if default_storage.exists(row.file.name):
            row.bytes = default_storage.size(row.file.name)
            row.save(update_fields=["bytes"])


class Migration(migrations.Migration):
    dependencies = [("jobs", "0001_initial")]

    operations = [
        migrations.AddField(
            model_name="renderfile",
            name="bytes",
            field=models.PositiveBigIntegerField(default=0),
        ),
        migrations.RunPython(count, migrations.RunPython.noop),
    ]
