"""Curves in the recipe, driven by mouse and keyboard, and the modules they are made of."""

import unittest

import numpy as np
from selenium import webdriver
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from tests.pages import BenchTest, wait_for
from tests.shots import tiny
from urst.core.curves.curve import Curve
from urst.db import shots
from urst.db.engine import session
from urst.web import recipe


class Curves(BenchTest):
    def settings(self, shot_id, layer):
        with session() as db:
            return shots.get(db, shot_id).shot.layer(layer).settings

    def knots(self, path):
        return self.page.find_elements(By.CSS_SELECTOR, f'[data-path="{path}"] .knot')

    def write(self, part, text):
        """Type into a field of the editor of the warmth."""
        field = self.find(f'[data-path="scalars.1.rise"] [data-part="{part}"]')
        self.page.execute_script("arguments[0].select()", field)
        field.send_keys(text, Keys.ENTER)
        return True

    def shown(self, path, points):
        """Wait until the editor on the page has the points that are kept: it is drawn anew after each change."""
        plot = (
            f"const n = document.querySelector('[data-path=\"{path}\"] .curve svg')?.closest('.curve'); return n && "
            f"JSON.parse(n.dataset.plot).points.map(p => [p.at, p.value]);"
        )
        wait_for(lambda: self.page.execute_script(plot) == [list(p) for p in points()], "the editor to show it")

    def drag(self, number, x, y):
        """Drag a point of the curve of the warmth."""
        webdriver.ActionChains(self.page).drag_and_drop_by_offset(self.knots("scalars.1.rise")[number], x, y).perform()
        return True

    def points(self, shot_id, layer, name):
        value = recipe.find(self.settings(shot_id, layer), name)[1]
        return [(p.at, p.value) for p in value.points] if isinstance(value, Curve) else value

    def test_a_number_becomes_a_curve_is_drawn_keyed_typed_and_made_level_again(self):
        shot_id = self.open(tiny(seed=31), "billow")
        heat = lambda: self.points(shot_id, "billow", "scalars.1.rise")  # noqa: E731
        self.click('[data-path="scalars.1.rise"] [data-vary]')
        wait_for(lambda: heat() == [(1, 0), (18, 0)], "a level curve over the range")
        wait_for(lambda: len(self.knots("scalars.1.rise")) == 2, "its two points")
        self.shown("scalars.1.rise", heat)
        # typed: value of the first point
        self.write("value", "60")
        wait_for(lambda: heat() == [(1, 60), (18, 0)], "the typed value")
        self.shown("scalars.1.rise", heat)
        # keyed at the frame in view
        self.page.execute_script("document.activeElement.blur()")
        self.press(*[Keys.ARROW_RIGHT] * 8)
        self.assertEqual(self.frame(), 9)
        self.click('[data-path="scalars.1.rise"] [data-part="add"]')
        wait_for(lambda: len(heat()) == 3 and heat()[1][0] == 9, "a key at frame 9")
        self.shown("scalars.1.rise", heat)
        self.assertAlmostEqual(heat()[1][1], 60 * (1 - 8 / 17), places=2)
        # by keyboard: the new point is in hand
        held = "return document.activeElement.getAttribute('aria-label') || '';"
        wait_for(lambda: self.page.execute_script(held).startswith("Point 2 of 3"), "its focus")
        before = heat()[1]
        self.press(Keys.ARROW_RIGHT, Keys.ARROW_UP)
        wait_for(lambda: heat()[1][0] == 10 and heat()[1][1] > before[1], "the moved point")
        self.shown("scalars.1.rise", heat)
        # by mouse
        wait_for(lambda: self.drag(1, 30, 15), "a point to take hold of")
        wait_for(lambda: heat()[1][0] > 10 and heat()[1][1] < before[1], "the dragged point")
        self.shown("scalars.1.rise", heat)
        # a cue typed as the place
        self.write("at", "hit - 3")
        wait_for(lambda: heat()[1][0] == 10, "the cue's frame less three")
        self.shown("scalars.1.rise", heat)
        self.assertIn("hit - 3: ", self.find('[id="f-scalars.1.rise"]').get_attribute("value"))
        # taken out, and one number again
        self.page.execute_script("document.querySelectorAll('[data-path=\"scalars.1.rise\"] .knot')[1].focus()")
        self.press(Keys.DELETE)
        wait_for(lambda: len(heat()) == 2, "one point less")
        self.shown("scalars.1.rise", heat)
        self.click('[data-path="scalars.1.rise"] [data-part="level"]')
        wait_for(lambda: heat() == 60, "a number")
        self.page.execute_script("document.activeElement.blur()")
        self.press_with_control("z")
        wait_for(lambda: heat() != 60 and len(heat()) == 2, "undo")

    def test_what_is_measured_stands_behind_the_curve_and_sets_its_range(self):
        shot_id = self.open(tiny(seed=32), "shed")
        self.live.bake(shot_id, "break")
        wait_for(lambda: self.health("billow") == "fresh", "the page to hear of it")
        self.played()
        self.press(*[Keys.ARROW_RIGHT] * 15)
        self.click('[data-path="chips"] [data-vary]')
        chips = lambda: self.points(shot_id, "shed", "chips")  # noqa: E731
        wait_for(lambda: isinstance(chips(), list), "a curve")
        self.assertEqual(chips()[0], (0, 260))
        self.assertGreater(chips()[1][0], 1.0)
        wait_for(lambda: self.page.find_elements(By.CSS_SELECTOR, ".curve .measured"), "the histogram")
        self.assertIn("speed of parting faces, frame 16", self.find(".curve svg").text)
        wait_for(lambda: self.health("shed") == "stale" and "Bake Shed" in self.find("#bake").text, "the page to know")
        # also from within the editor
        self.shown("chips", chips)
        self.page.execute_script("document.querySelectorAll('[data-path=\"chips\"] .knot')[0].focus()")
        self.press_with_control(Keys.ENTER)
        wait_for(lambda: self.health("shed") == "fresh", "the curve to be baked", 60)
        self.assertEqual(len(chips()), 2)

    def test_the_module_draws_the_curve_that_is_computed(self):
        self.page.get(f"{self.live.base}/queue")
        cases = (
            [(0, 0), (10, 0), (11, 1), (20, 1)],
            [(0, 2), (3, 5), (4, -1), (9, 0.5), (30, 7)],
            [(1, 4)],
            [(1, 4), (5, 8)],
            [(0, 1), (1, 1.1), (10, 60)],
        )
        for case in cases:
            points = [{"at": a, "value": v} for a, v in case]
            places = np.linspace(-2, 32, 103)
            drawn = self.page.execute_async_script(
                "const [points, places, done] = arguments; import('/static/js/curve.js').then(m => done(places.map(x "
                "=> m.valueAt(points, x))))",
                points,
                places.tolist(),
            )
            np.testing.assert_allclose(drawn, Curve.model_validate({"points": points}).along(places), atol=1e-12)

    def test_the_module_s_words_and_moves(self):
        self.page.get(f"{self.live.base}/queue")
        run = lambda body: self.page.execute_async_script(  # noqa: E731
            f"const done = arguments[0]; import('/static/js/curve.js').then(m => done((m => {{ {body} }})(m)))"
        )
        self.assertEqual(
            run(
                "return "
                "m.typed({over: 'frame', points: [{at: 10, value: 1, cue: 'hit'}, {at: 14, value: 0.1 + 0.2, "
                "cue: 'hit'}]}, {hit: 12})"
            ),
            "over frame hit - 2: 1, hit + 2: 0.3",
        )
        self.assertEqual(
            run("return m.typed({over: 'distance', origin: [1, 2, 3], points: [{at: 0, value: 1, cue: ''}]})"),
            "over distance from 1 2 3 0: 1",
        )
        moved = run("return m.moved([{at: 0, value: 0}, {at: 5, value: 1}], 1, -9, 99, {gap: 1, least: 0, most: 10})")
        self.assertEqual(moved, [{"at": 0, "value": 0}, {"at": 1, "value": 10}])
        self.assertEqual(run("return m.added([{at: 0, value: 0}, {at: 10, value: 10}], 5).number"), 1)
        self.assertEqual(run("return m.added([{at: 0, value: 0}, {at: 10, value: 10}], 10).points.length"), 2)


if __name__ == "__main__":
    unittest.main()
