"""The open list of sensors: what ships, what a user adds, and what happens to a list that cannot be read."""

import os
import unittest
from unittest import mock

from lodestar.core.basics.errors import UserError
from lodestar.core.solve.sensors import Sensor, focal_px, own_list, remember, sensors
from tests.helpers import FolderCase


class SensorsTest(FolderCase):
    def setUp(self):
        super().setUp()
        self.enterContext(mock.patch.dict(os.environ, {"XDG_CONFIG_HOME": str(self.folder)}))

    def test_a_focal_length_in_pixels(self):
        # a 35 mm lens on a 36 mm wide sensor sees 54.4 degrees across (handbook value, from memory)
        import numpy as np

        f = focal_px(35, 36.0, 1920)
        self.assertAlmostEqual(float(np.rad2deg(2 * np.arctan(960 / f))), 54.4, delta=0.1)

    def test_the_users_own_join_the_list_and_replace_by_name(self):
        before = sensors()
        self.assertEqual([s.width_mm for s in before], sorted((s.width_mm for s in before), reverse=True))
        remember(Sensor("Own 22.3", 22.3))
        remember(Sensor("Super 35", 25.1))
        after = {s.name: s.width_mm for s in sensors()}
        self.assertEqual((after["Own 22.3"], after["Super 35"], len(after)), (22.3, 25.1, len(before) + 1))

    def test_a_list_that_cannot_be_understood_is_told(self):
        own_list().parent.mkdir(parents=True)
        own_list().write_text('[{"name": "Mine", "width": 3}]')
        with self.assertRaises(UserError) as told:
            sensors()
        self.assertIn("cannot be understood", told.exception.what)
        self.assertIn("width_mm", told.exception.hint)


if __name__ == "__main__":
    unittest.main()
