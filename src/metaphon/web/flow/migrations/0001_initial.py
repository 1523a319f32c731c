import django.db.models.deletion
from django.conf import settings
from django.db import migrations, models


class Migration(migrations.Migration):

    initial = True

    dependencies = [
        ('mixes', '0005_commands'),
        migrations.swappable_dependency(settings.AUTH_USER_MODEL),
    ]

    # the tables are those that were made for another app
    operations = [
        migrations.SeparateDatabaseAndState(
            database_operations=[
                migrations.RunSQL('ALTER TABLE mixes_startingpoint RENAME TO flow_startingpoint', 'ALTER TABLE flow_startingpoint RENAME TO mixes_startingpoint'),
                migrations.RunSQL('ALTER SEQUENCE mixes_startingpoint_id_seq RENAME TO flow_startingpoint_id_seq', 'ALTER SEQUENCE flow_startingpoint_id_seq RENAME TO mixes_startingpoint_id_seq'),
            ],
            state_operations=[
        migrations.CreateModel(
            name='StartingPoint',
            fields=[
                ('id', models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name='ID')),
                ('name', models.CharField(max_length=120)),
                ('chain', models.JSONField()),
                ('user', models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, related_name='starting_points', to=settings.AUTH_USER_MODEL)),
            ],
            options={
                'ordering': ['name'],
                'constraints': [models.UniqueConstraint(fields=('user', 'name'), name='starting_point_once')],
            },
        ),
            ],
        ),
    ]
