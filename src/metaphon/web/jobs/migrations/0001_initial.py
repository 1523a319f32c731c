import django.db.models.deletion
import metaphon.web.jobs.models
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
                migrations.RunSQL('ALTER TABLE mixes_render RENAME TO jobs_render', 'ALTER TABLE jobs_render RENAME TO mixes_render'),
                migrations.RunSQL('ALTER SEQUENCE mixes_render_id_seq RENAME TO jobs_render_id_seq', 'ALTER SEQUENCE jobs_render_id_seq RENAME TO mixes_render_id_seq'),
                migrations.RunSQL('ALTER TABLE mixes_renderfile RENAME TO jobs_renderfile', 'ALTER TABLE jobs_renderfile RENAME TO mixes_renderfile'),
                migrations.RunSQL('ALTER SEQUENCE mixes_renderfile_id_seq RENAME TO jobs_renderfile_id_seq', 'ALTER SEQUENCE jobs_renderfile_id_seq RENAME TO mixes_renderfile_id_seq'),
                migrations.RunSQL('ALTER TABLE mixes_print RENAME TO jobs_print', 'ALTER TABLE jobs_print RENAME TO mixes_print'),
                migrations.RunSQL('ALTER SEQUENCE mixes_print_id_seq RENAME TO jobs_print_id_seq', 'ALTER SEQUENCE jobs_print_id_seq RENAME TO mixes_print_id_seq'),
                migrations.RunSQL('ALTER TABLE mixes_survey RENAME TO jobs_survey', 'ALTER TABLE jobs_survey RENAME TO mixes_survey'),
                migrations.RunSQL('ALTER SEQUENCE mixes_survey_id_seq RENAME TO jobs_survey_id_seq', 'ALTER SEQUENCE jobs_survey_id_seq RENAME TO mixes_survey_id_seq'),
            ],
            state_operations=[
        migrations.CreateModel(
            name='Render',
            fields=[
                ('id', models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name='ID')),
                ('status', models.CharField(choices=[('waiting', 'Waiting'), ('running', 'Rendering'), ('cancelling', 'Stopping'), ('cancelled', 'Cancelled'), ('failed', 'Failed'), ('done', 'Done')], default='waiting', max_length=10)),
                ('options', models.JSONField()),
                ('progress', models.FloatField(default=0.0)),
                ('speed_x_realtime', models.FloatField(null=True)),
                ('message', models.CharField(blank=True, max_length=500)),
                ('created_at', models.DateTimeField(auto_now_add=True)),
                ('revision', models.PositiveIntegerField()),
                ('findings', models.JSONField(default=list)),
                ('mix', models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, related_name='renders', to='mixes.mix')),
                ('user', models.ForeignKey(null=True, on_delete=django.db.models.deletion.SET_NULL, to=settings.AUTH_USER_MODEL)),
            ],
            options={
                'ordering': ['-pk'],
                'abstract': False,
            },
        ),
        migrations.CreateModel(
            name='RenderFile',
            fields=[
                ('id', models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name='ID')),
                ('kind', models.CharField(choices=[('audio', 'audio'), ('json', 'JSON'), ('report', 'report')], max_length=6)),
                ('name', models.CharField(max_length=255)),
                ('file', models.FileField(max_length=255, upload_to=metaphon.web.jobs.models.render_path)),
                ('target', models.CharField(blank=True, max_length=1500)),
                ('stem', models.CharField(blank=True, max_length=64)),
                ('figures', models.JSONField(default=dict)),
                ('history', models.JSONField(default=dict)),
                ('render', models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, related_name='files', to='jobs.render')),
            ],
            options={
                'ordering': ['pk'],
            },
        ),
        migrations.CreateModel(
            name='Survey',
            fields=[
                ('id', models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name='ID')),
                ('key', models.CharField(max_length=64)),
                ('levels', models.JSONField(default=dict)),
                ('findings', models.JSONField(default=list)),
                ('mix', models.OneToOneField(on_delete=django.db.models.deletion.CASCADE, related_name='survey', to='mixes.mix')),
            ],
        ),
        migrations.CreateModel(
            name='Print',
            fields=[
                ('id', models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name='ID')),
                ('status', models.CharField(choices=[('waiting', 'Waiting'), ('running', 'Rendering'), ('cancelling', 'Stopping'), ('cancelled', 'Cancelled'), ('failed', 'Failed'), ('done', 'Done')], default='waiting', max_length=10)),
                ('options', models.JSONField()),
                ('progress', models.FloatField(default=0.0)),
                ('speed_x_realtime', models.FloatField(null=True)),
                ('message', models.CharField(blank=True, max_length=500)),
                ('created_at', models.DateTimeField(auto_now_add=True)),
                ('mix', models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, related_name='prints', to='mixes.mix')),
                ('user', models.ForeignKey(null=True, on_delete=django.db.models.deletion.SET_NULL, to=settings.AUTH_USER_MODEL)),
            ],
            options={
                'ordering': ['-pk'],
                'abstract': False,
                'constraints': [models.CheckConstraint(condition=models.Q(('progress__gte', 0.0), ('progress__lte', 1.0)), name='print_progress_range')],
            },
        ),
        migrations.AddConstraint(
            model_name='render',
            constraint=models.CheckConstraint(condition=models.Q(('progress__gte', 0.0), ('progress__lte', 1.0)), name='render_progress_range'),
        ),
            ],
        ),
    ]
