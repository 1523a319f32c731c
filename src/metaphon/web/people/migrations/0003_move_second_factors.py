"""Second factors as they were kept before: secrets become encrypted, spare codes digests."""

import base64
from typing import Any

from django.db import migrations

from metaphon.web.shell.secrets import encrypt, keyed_digest_of

_TOTP, _STATIC = "otp_totp_totpdevice", "otp_static_staticdevice"


def move_devices(apps: Any, schema_editor: Any) -> None:
    connection = schema_editor.connection
    if _TOTP not in connection.introspection.table_names():
        return
    authenticators = apps.get_model("people", "Authenticator").objects
    spare_codes = apps.get_model("people", "SpareCodes").objects
    with connection.cursor() as cursor:
        cursor.execute(f"select user_id, confirmed, key, last_t from {_TOTP}")
        for user_id, confirmed, key, last_step in cursor.fetchall():
            secret = encrypt(base64.b32encode(bytes.fromhex(key)).decode())
            authenticators.create(
                user_id=user_id,
                name="Authenticator",
                confirmed=confirmed,
                secret=secret,
                last_step=last_step,
            )
        cursor.execute(
            f"select user_id, array_agg(token) from {_STATIC} "
            "join otp_static_statictoken on device_id = otp_static_staticdevice.id group by user_id"
        )
        for user_id, codes in cursor.fetchall():
            digests = [keyed_digest_of(code.lower()) for code in codes]
            spare_codes.create(user_id=user_id, name="Spare codes", digests=digests)


class Migration(migrations.Migration):
    dependencies = [("people", "0002_second_factors")]
    operations = [
        migrations.RunPython(move_devices, migrations.RunPython.noop),
        migrations.RunSQL(
            "drop table if exists otp_static_statictoken, otp_static_staticdevice, "
            "otp_totp_totpdevice cascade",
            migrations.RunSQL.noop,
        ),
    ]
