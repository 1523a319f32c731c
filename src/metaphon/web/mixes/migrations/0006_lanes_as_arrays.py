"""Lanes are kept as three packed arrays, clips and strips by their place; the state of a mix is its last journal entry."""

import struct
from base64 import b64encode

from django.db import migrations

_CURVES = ('linear', 'hold', 'smooth')


def _packed(points):
    curves = bytes(_CURVES.index(point.get('curve', 'linear')) for point in points)
    return {
        't_s': b64encode(struct.pack(f'<{len(points)}d', *(point['t_s'] for point in points))).decode(),
        'value': b64encode(struct.pack(f'<{len(points)}d', *(point['value'] for point in points))).decode(),
        'curve': b64encode(curves).decode() if any(curves) else '',
    }


def _side(table, row):
    if table == 'Automation' and row and isinstance(row.get('points'), list):
        row['points'] = _packed(row['points'])
    if table == 'Clip' and row and 'track_id' in row:
        row.setdefault('position', 0)
    return row


def forwards(apps, schema_editor):
    models = {name: apps.get_model('mixes', name) for name in ('Mix', 'Strip', 'Clip', 'Automation', 'JournalEntry')}
    for mix in models['Mix'].objects.all():
        for kind in ('track', 'bus'):
            strips = models['Strip'].objects.filter(mix=mix, kind=kind).order_by('position', 'pk')
            for place, strip in enumerate(strips):
                models['Strip'].objects.filter(pk=strip.pk).update(position=place)
                for at, clip in enumerate(models['Clip'].objects.filter(track=strip).order_by('start_s', 'pk')):
                    models['Clip'].objects.filter(pk=clip.pk).update(position=at)
        last = models['JournalEntry'].objects.filter(mix=mix).order_by('-revision').first()
        models['Mix'].objects.filter(pk=mix.pk).update(state=last.pk if last else 0)
    for lane in models['Automation'].objects.all():
        if isinstance(lane.points, list):
            models['Automation'].objects.filter(pk=lane.pk).update(points=_packed(lane.points))
    for entry in models['JournalEntry'].objects.iterator():
        for change in entry.changes:
            change['before'], change['after'] = (_side(change['table'], change[side]) for side in ('before', 'after'))
        models['JournalEntry'].objects.filter(pk=entry.pk).update(changes=entry.changes)


class Migration(migrations.Migration):

    dependencies = [
        ('mixes', '0005_commands'),
    ]

    operations = [
        migrations.RunPython(forwards, migrations.RunPython.noop),
    ]
