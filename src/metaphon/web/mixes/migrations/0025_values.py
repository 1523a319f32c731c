import django.db.models.deletion
from django.db import migrations, models


class Migration(migrations.Migration):

    dependencies = [
        ('mixes', '0024_kept_bytes'),
    ]

    operations = [
        migrations.RenameModel('Automation', 'Lane'),
        migrations.AlterModelOptions(
            name='lane',
            options={'ordering': ['position', 'pk']},
        ),
        migrations.AddField(
            model_name='lane',
            name='position',
            field=models.PositiveIntegerField(default=0),
        ),
        migrations.CreateModel(
            name='StripResponse',
            fields=[
                ('id', models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name='ID')),
            ],
        ),
        migrations.AlterModelOptions(
            name='group',
            options={'ordering': ['position', 'pk']},
        ),
        migrations.AlterModelOptions(
            name='send',
            options={'ordering': ['pk']},
        ),
        migrations.AddField(
            model_name='clip',
            name='values',
            field=models.JSONField(default=dict),
        ),
        migrations.AddField(
            model_name='group',
            name='position',
            field=models.PositiveIntegerField(default=0),
        ),
        migrations.AddField(
            model_name='group',
            name='values',
            field=models.JSONField(default=dict),
        ),
        migrations.AddField(
            model_name='mix',
            name='values',
            field=models.JSONField(default=dict),
        ),
        migrations.AddField(
            model_name='send',
            name='values',
            field=models.JSONField(default=dict),
        ),
        migrations.AddField(
            model_name='strip',
            name='values',
            field=models.JSONField(default=dict),
        ),
        migrations.AddField(
            model_name='stripresponse',
            name='response',
            field=models.ForeignKey(on_delete=django.db.models.deletion.RESTRICT, related_name='used_by', to='mixes.spaceresponse'),
        ),
        migrations.AddField(
            model_name='stripresponse',
            name='strip',
            field=models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, related_name='responses', to='mixes.strip'),
        ),
        migrations.AddConstraint(
            model_name='stripresponse',
            constraint=models.UniqueConstraint(fields=('strip', 'response'), name='strip_response_once'),
        ),
    ]
