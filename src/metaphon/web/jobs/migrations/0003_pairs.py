from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("jobs", "0002_held_bytes")]

    operations = [
        migrations.AddField(
            model_name="survey", name="pairs", field=models.JSONField(default=list)
        ),
    ]
