"""An object's first reflections: when, how loud and from where, by its image sources."""

from typing import Any

import numpy as np

from metaphon.core.engine.object_room import RoomRun
from metaphon.core.engine.plan import compile
from metaphon.core.spatial.ambisonics import encode
from metaphon.core.spatial.directions import angles_of
from metaphon.core.spatial.image_sources import images_of
from tests.sounds import RATE_HZ, FolderTest, noise

WALLS = (9.0, 12.0, 4.5)
_FIRST = 1000


class ObjectRoom(FolderTest):
    def setUp(self) -> None:
        super().setUp()
        click = np.zeros((1, RATE_HZ // 2))
        click[0, _FIRST] = 1.0
        self.write("click.wav", click)
        self.write("noise.wav", noise(1, 3.0))

    def of(self, sound: str = "click.wav", lanes: Any = (), **placement: Any) -> Any:
        place = {
            "mode": "object",
            "sphere_m": 2.5,
            "reflections": True,
            "reflections_db": 0.0,
            "room_width_m": WALLS[0],
            "room_depth_m": WALLS[1],
            "room_height_m": WALLS[2],
            "room_absorption": 0.36,
            **placement,
        }
        track = {"id": "gull", "sound": sound, "placement": place}
        return self.mix([track], automation=list(lanes))

    def test_each_comes_when_and_whence_its_image_says(self) -> None:
        """Delay by 343 m/s, level by distance and sqrt(1 - absorption), direction in the scene."""
        for azimuth_deg, elevation_deg, distance in ((90.0, 0.0, 1.0), (-40.0, 30.0, 0.6)):
            angles = {"azimuth_deg": azimuth_deg, "elevation_deg": elevation_deg}
            heard = self.rendered(self.of(distance=distance, **angles), "scene3")
            direct = self.rendered(
                self.of(distance=distance, reflections=False, **angles), "scene3"
            )
            room = heard[:, : direct.shape[1]] - direct[:, : heard.shape[1]]
            listener = np.array(WALLS) * (0.5, 0.5, 0.4)
            azimuth, elevation = np.radians([azimuth_deg, elevation_deg])
            toward = np.array(
                [
                    -np.sin(azimuth) * np.cos(elevation),
                    np.cos(azimuth) * np.cos(elevation),
                    np.sin(elevation),
                ]
            )
            images = images_of(WALLS, listener + 2.5 * distance * toward, listener, 1)
            away = np.linalg.norm(images.away_m, axis=1)
            for place, far in zip(images.away_m[1:], away[1:], strict=True):
                late = (far - away[0]) / 343.0 * RATE_HZ
                around = room[:, _FIRST + int(late) - 15 : _FIRST + int(late) + 17]
                near = np.abs(away[1:] - far) / 343.0 * RATE_HZ < 60
                if np.count_nonzero(near) > 1:
                    continue  # two come together
                # read between samples, a click's sum is its level
                gains = around.sum(axis=1)
                wanted = 0.8 * away[0] / far * encode(*angles_of(place), 3)
                np.testing.assert_allclose(gains, wanted, atol=0.03 * abs(wanted[0]))

    def test_a_moving_object_moves_in_its_room(self) -> None:
        """As it goes from left to right the left wall answers later and the right one sooner."""
        start, end = (
            RoomRun(walls_m=WALLS, sphere_m=2.5, azimuth_deg=azimuth) for azimuth in (90.0, -90.0)
        )
        later = end.taps(RATE_HZ)[0] - start.taps(RATE_HZ)[0]
        self.assertGreater(later.max(), 500.0)
        self.assertAlmostEqual(later.min(), -later.max(), places=6)
        self.assertEqual(np.count_nonzero(np.abs(later) > 1e-6), 2)
        points = [{"t_s": 0.2, "value": 90.0}, {"t_s": 2.5, "value": -90.0}]
        lane = {"target": "gull/placement/azimuth_deg", "points": points}
        mix = self.of("noise.wav", [lane], azimuth_deg=90.0)
        blocks = [self.rendered(mix, "0+5+0", size) for size in (1024, 16384)]
        np.testing.assert_array_equal(*blocks)
        still = self.rendered(self.of("noise.wav", azimuth_deg=90.0), "0+5+0")
        self.assertGreater(np.abs(blocks[0][:, 60000:90000] - still[:, 60000:90000]).max(), 1e-3)
        bend = np.abs(np.diff(blocks[0], 2, axis=1)).max()
        self.assertLess(bend, 2.0 * np.abs(np.diff(still, 2, axis=1)).max())

    def test_it_is_off_by_default_ends_with_its_tail_and_belongs_to_its_object(self) -> None:
        plain, room = (
            compile(mix) for mix in (self.of(reflections=False), self.of(reflections=True))
        )
        self.assertEqual([one.id for one in plain.strips], ["gull"])
        self.assertEqual([one.id for one in room.strips], ["gull", "gull/room"])
        self.assertGreater(room.frames, plain.frames + 2000)
        self.assertEqual(len(compile(self.of(mode="bed")).strips), 1)

    def test_it_falls_with_the_level_of_its_object(self) -> None:
        """6 dB a doubling: at twice the distance direct and room are both softer."""
        near, far = (
            self.rendered(
                self.of(distance=distance, level_db_per_doubling=6.0, room_width_m=30.0), "0+2+0"
            )
            for distance in (0.5, 1.0)
        )
        self.assertLess(np.sum(far**2), 0.7 * np.sum(near**2))
