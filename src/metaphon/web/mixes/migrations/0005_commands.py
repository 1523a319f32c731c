from django.db import migrations, models


class Migration(migrations.Migration):

    dependencies = [
        ('mixes', '0004_field'),
    ]

    operations = [
        # these belong to the apps that use them now, which take their tables over
        migrations.SeparateDatabaseAndState(
            state_operations=[migrations.DeleteModel(name) for name in ('RenderFile', 'Render', 'Print', 'StartingPoint', 'Survey')],
        ),
        migrations.AlterModelOptions(
            name='clip',
            options={'ordering': ['position', 'pk']},
        ),
        migrations.RemoveConstraint(
            model_name='placement',
            name='placement_layout_known',
        ),
        migrations.RemoveConstraint(
            model_name='placement',
            name='placement_reference_known',
        ),
        migrations.RemoveConstraint(
            model_name='send',
            name='send_azimuth_deg_range',
        ),
        migrations.RemoveConstraint(
            model_name='strip',
            name='strip_bus_has_layout',
        ),
        migrations.AddField(
            model_name='clip',
            name='position',
            field=models.PositiveIntegerField(default=0),
        ),
        migrations.AddField(
            model_name='journalentry',
            name='void',
            field=models.BooleanField(default=False),
        ),
        migrations.AddField(
            model_name='journalentry',
            name='edit',
            field=models.CharField(blank=True, max_length=40),
        ),
        migrations.AddField(
            model_name='mix',
            name='state',
            field=models.BigIntegerField(default=0),
        ),
        migrations.AlterField(
            model_name='placement',
            name='layout',
            field=models.CharField(default='0+5+0', max_length=40),
        ),
        migrations.AlterField(
            model_name='placement',
            name='reference',
            field=models.CharField(default='4+5+0', max_length=40),
        ),
        migrations.AlterField(
            model_name='strip',
            name='layout',
            field=models.CharField(blank=True, max_length=1500),
        ),
        migrations.AddConstraint(
            model_name='placement',
            constraint=models.CheckConstraint(condition=models.Q(('extent_height_deg__gte', 0.0), ('extent_height_deg__lte', 360.0)), name='placement_extent_height_deg_range'),
        ),
        migrations.AddConstraint(
            model_name='send',
            constraint=models.CheckConstraint(condition=models.Q(('azimuth_deg__gte', -180.0), ('azimuth_deg__lte', 180.0)), name='send_azimuth_deg_range'),
        ),
        migrations.AddConstraint(
            model_name='strip',
            constraint=models.CheckConstraint(condition=models.Q(models.Q(('kind', 'track'), ('layout', '')), models.Q(('kind', 'bus'), models.Q(('layout', ''), _negated=True)), _connector='OR'), name='strip_bus_has_layout'),
        ),
    ]
