import django.db.models.deletion
import metaphon.web.listen.models
from django.conf import settings
from django.db import migrations, models
from django.db.models import Q


class Migration(migrations.Migration):

    dependencies = [
        ('listen', '0001_initial'),
        migrations.swappable_dependency(settings.AUTH_USER_MODEL),
    ]

    operations = [
        migrations.RemoveConstraint('Kept', 'kept_kind_known'),
        migrations.RenameModel('Kept', 'UserFile'),
        migrations.AlterField(
            'UserFile', 'file',
            models.FileField(max_length=255, upload_to=metaphon.web.listen.models.user_file_path),
        ),
        migrations.AlterField(
            'UserFile', 'user',
            models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, related_name='user_files', to=settings.AUTH_USER_MODEL),
        ),
        migrations.AddConstraint(
            'UserFile',
            models.CheckConstraint(condition=Q(kind__in=['head', 'headphones']), name='user_file_kind_known'),
        ),
    ]
