"""The quick renderer: geometry, light, dust."""

import unittest

import numpy as np

from urst.core.air import DUST_EXTINCTION
from urst.core.geometry import generators
from urst.core.preview import kernels
from urst.core.preview.colour import linear, to_srgb
from urst.core.preview.look import tint
from urst.core.preview.renderer import View, render

VIEW = View(eye=(0, -10, 1), target=(0, 0, 1), angle=40, width=160, height=90)
GREY = linear("#808080")


def picture(meshes, **options):
    triangles = np.concatenate([m.vertices[m.triangles] for m in meshes])
    return render(VIEW, triangles, np.tile(GREY, (len(triangles), 1)), **options).astype(int)


class Renderer(unittest.TestCase):
    def test_a_box_covers_what_projection_says(self):
        wall = generators.box_between((-1, 0, 0), (1, 0.5, 2))
        changed = (
            np.abs(picture([wall]) - picture([generators.box_between((50, 80, 50), (51, 81, 51))])).sum(axis=2) > 0
        )
        half = 80 / np.tan(np.radians(20)) / 10
        self.assertAlmostEqual(changed.any(axis=0).sum(), 2 * half, delta=2)
        self.assertAlmostEqual(changed.any(axis=1).sum(), 2 * half, delta=2)

    def test_what_is_nearer_hides_what_is_farther(self):
        near, far = (
            generators.box_between((-0.5, -2, 0.5), (0.5, -1.5, 1.5)),
            generators.box_between((-0.4, 3, 0.6), (0.4, 4, 1.4)),
        )
        np.testing.assert_array_equal(picture([near, far])[30:60, 70:90], picture([near])[30:60, 70:90])

    def test_a_roof_throws_a_shadow(self):
        floor, roof = (
            generators.box_between((-3, -3, -0.1), (3, 3, 0)),
            generators.box_between((-1, -1, 2.6), (1, 1, 2.7)),
        )
        self.assertLess(picture([floor, roof]).min(), picture([floor]).min() - 20)

    def test_dust_dims_what_stands_behind_it_by_beer_and_lambert(self):
        wall = generators.box_between((-4, 2, -3), (4, 3, 5))
        thickness, amount = 1.0, 0.01
        density = np.full((80, 10, 80), amount)
        dusty = picture([wall], dust=[(density, (-4, 0, -3), 0.1, (1, 1, 1))])
        clear = picture([wall])
        fraction = np.exp(-DUST_EXTINCTION * amount * thickness)
        black = render(
            VIEW, wall.vertices[wall.triangles], np.zeros((12, 3)), dust=[(density, (-4, 0, -3), 0.1, (1, 1, 1))]
        ).astype(int)
        to_linear = lambda c: np.where(c <= 10.3, c / 255 / 12.92, ((c / 255 + 0.055) / 1.055) ** 2.4)  # noqa: E731
        passed = (to_linear(dusty[45, 80]) - to_linear(black[45, 80])) / to_linear(clear[45, 80])
        np.testing.assert_allclose(passed, fraction, atol=0.04)

    def test_light_fades_along_its_slanted_way(self):
        density, sun = np.full((24, 24, 12), 0.02), np.array([0.3, -0.2, 0.9])
        sun /= np.linalg.norm(sun)
        from_sun, from_sky = np.empty_like(density), np.empty_like(density)
        kernels.light_through(density, 15.0, 0.1, sun, from_sun, from_sky)
        # half a cell to the middle of the cell at depth k, along a ray that leaves through the top
        depth = (np.arange(12)[::-1] + 0.5) * 0.1
        np.testing.assert_allclose(from_sun[12, 12], np.exp(-15.0 * 0.02 * depth / sun[2]), rtol=1e-9)
        self.assertGreater(from_sky[12, 12, 0], from_sun[12, 12, 0])
        # towards the sun the ray soon leaves through the side instead
        self.assertGreater(from_sun[23, 12, 0], from_sun[12, 12, 0])

    def test_dust_throws_a_shadow_on_what_stands_in_it(self):
        floor = generators.box_between((-3, -3, -0.1), (3, 3, 0))
        density = np.zeros((60, 60, 30))
        density[20:40, 20:40, 25:] = 0.5
        dusty = picture([floor], dust=[(density, (-3, -3, -0.5), 0.1, (0, 0, 0))])[60:]
        clear = picture([floor])[60:]
        self.assertLess((dusty / clear).min(), 0.8)
        self.assertAlmostEqual((dusty / clear).max(), 1.0, delta=0.01)

    def test_a_liquid_takes_light_by_its_own_tint(self):
        # a slab 1 m thick of what one sees so far into, before a wall; each beside the other
        wall = generators.box_between((-4, 2, -3), (4, 3, 5))
        black = np.zeros((12, 3))
        slabs = [generators.box_between((x, 0, 0), (x + 1.5, 1, 2)) for x in (-1.6, 0.1)]
        milk, water = tint("#f4efe4", 0.01), tint("", 60.0)

        def seen(colours, tints):
            surfaces = []
            for slab, look in zip(slabs, tints):
                corners = slab.vertices[slab.triangles]
                flat = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
                flat /= np.linalg.norm(flat, axis=1, keepdims=True)
                surfaces.append((corners, np.repeat(flat[:, None], 3, axis=1), look))
            return render(VIEW, wall.vertices[wall.triangles], colours, water=surfaces).astype(int)

        grey = np.tile(GREY, (12, 1))
        both, dark = seen(grey, (milk, water)), seen(black, (milk, water))
        # nothing is seen through milk, which is as bright as it says; nearly all through clear water
        np.testing.assert_array_equal(both[45, 70], dark[45, 70])
        self.assertGreater(both[45, 70].min(), 120)
        bare = picture([wall])
        self.assertGreater((both - dark)[45, 95].min(), 0.7 * bare[45, 95].min())
        other = seen(grey, (water, milk))
        np.testing.assert_allclose(other[45, 95], both[45, 70], atol=12)

    def test_a_tint_leaves_a_fiftieth_of_a_contrast_where_one_sees_no_farther(self):
        for colour in ("#3a2a10", "#f4efe4", "#808080"):
            look = tint(colour, 0.5)
            self.assertAlmostEqual(float(np.exp(-0.5 * np.mean(look.clear))), 0.02)
            np.testing.assert_allclose(look.deep, linear(colour))
        # what it gives least of it takes most of
        red, _, blue = tint("#3a2a10", 0.5).clear
        self.assertGreater(blue, red)

    def test_it_can_look_straight_down(self):
        roof = generators.box_between((-1, -0.5, 0), (1, 0.5, 1))
        view = View(eye=(0, 0, 10), target=(0, 0, 0), angle=40, width=160, height=90)
        triangles = roof.vertices[roof.triangles]
        seen = render(view, triangles, np.ones((12, 3))).astype(int)
        wide = (np.abs(seen - seen[0, 0]).sum(axis=2) > 0).any(axis=0).sum()
        self.assertAlmostEqual(wide, 2 * 80 / np.tan(np.radians(20)) / 9, delta=2)

    def test_srgb_both_ways(self):
        # IEC 61966-2-1: 0.2140 linear is 0.5 (quoted from memory)
        self.assertAlmostEqual(float(linear("#808080")[0]), 0.2159, delta=1e-3)
        self.assertEqual(int(to_srgb(np.full((1, 1, 3), linear("#808080")[0]))[0, 0, 0]), 128)


if __name__ == "__main__":
    unittest.main()
