"""What recordings hold of the disk, counted for those that are there."""

from django.core.files.storage import default_storage
from django.db import migrations, models


def count(apps, schema_editor):
    for audio in apps.get_model("mixes", "AudioFile").objects.all():
        names = [file.name for file in (audio.file, audio.original) if file]
        there = [name for name in names if default_storage.exists(name)]
        audio.bytes = sum(default_storage.size(name) for name in there)
        audio.save(update_fields=["bytes"])


class Migration(migrations.Migration):
    dependencies = [("mixes", "0010_fold_down_lfe_delivery")]

    operations = [
        migrations.AddField(
            model_name="audiofile",
            name="bytes",
            field=models.PositiveBigIntegerField(default=0),
        ),
        migrations.RunPython(count, migrations.RunPython.noop),
    ]
