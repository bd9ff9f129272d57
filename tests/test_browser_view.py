"""Seeing and measuring on the stage: pieces in hand, ruler, cut, cameras, exposure, movies."""

import time
import unittest

import av
from selenium import webdriver
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from benchmarks.browser import measure
from tests.pages import BenchTest, wait_for
from tests.shots import falling_box, tiny
from urst.db import shots, versions
from urst.db.engine import session
from urst.demo import smoke
from urst.handover.forms import folder
from urst.shot import layers
from urst.shot.document import parse

#: pixels of a metre in a straight view, by its bar of length
METRE = """const b = document.getElementById('bar'), t = b.textContent;
  return b.clientWidth / (parseFloat(t) / (t.endsWith('cm') ? 100 : 1));"""


class View(BenchTest):
    def shot(self, shot_id):
        with session() as db:
            return shots.get(db, shot_id).shot

    def blur(self):
        self.page.execute_script("document.activeElement.blur()")

    def canvas(self):
        return webdriver.ActionChains(self.page), self.find("#stage canvas")

    def straight(self):
        """Look at the set from the front."""
        self.click('[data-look="front"]')
        wait_for(lambda: self.find("#bar").is_displayed(), "the straight view")

    def tool(self, name):
        self.click(f'[data-tool="{name}"]')

    def labels(self):
        return [x.text for x in self.page.find_elements(By.CSS_SELECTOR, ".marks span") if x.is_displayed()]

    def changed(self, before, by, what):
        wait_for(lambda: sum(abs(a - b) for a, b in zip(self.pixels(), before)) > by, what)

    def test_a_piece_is_picked_measured_dragged_typed_and_put_down(self):
        shot_id = self.open(falling_box(6, top_speed=71), "fall")
        self.straight()
        chain, canvas = self.canvas()
        chain.move_to_element(canvas).click().perform()
        wait_for(lambda: self.find("#in-hand").is_displayed(), "the piece in hand")
        self.assertEqual(self.find("#in-hand b").text, "Box")
        wait_for(lambda: self.find("#piece").get_attribute("value") == "1", "its panel")
        self.assertIn("the set as it stands", self.find("#stamp").text)
        self.assertEqual(sorted(self.labels())[1:], ["0.30 m", "0.40 m"])
        # in the front view a drag moves it in the plane of the picture, here straight to the side
        metre = self.page.execute_script(METRE)
        before = self.shot(shot_id).pieces[1].position
        chain, canvas = self.canvas()
        chain.move_to_element(canvas).click_and_hold().move_by_offset(60, 0).move_by_offset(40, 0).release().perform()
        wait_for(lambda: self.shot(shot_id).pieces[1].position != before, "the move")
        after = self.shot(shot_id).pieces[1].position
        self.assertAlmostEqual(after[0] - before[0], 100 / metre, delta=0.015)
        self.assertEqual(after[1:], before[1:])
        wait_for(lambda: self.find('[data-axis="x"]').get_attribute("value") == f"{after[0]:g}", "the number shown")
        # along one axis alone
        self.click('[data-along="z"]')
        chain, canvas = self.canvas()
        chain.move_to_element_with_offset(canvas, 100, 0).click_and_hold().move_by_offset(20, -20).move_by_offset(
            20, -30
        ).release().perform()
        wait_for(lambda: self.shot(shot_id).pieces[1].position[2] != after[2], "the move up")
        up = self.shot(shot_id).pieces[1].position
        self.assertEqual(up[:2], after[:2])
        self.assertAlmostEqual(up[2] - after[2], 50 / metre, delta=0.015)
        field = self.find('[data-axis="y"]')
        self.page.execute_script("arguments[0].select()", field)
        field.send_keys("-0.75", Keys.ENTER)
        wait_for(lambda: self.shot(shot_id).pieces[1].position[1] == -0.75, "the typed place")
        self.blur()
        self.press(Keys.ESCAPE)
        wait_for(lambda: not self.find("#in-hand").is_displayed(), "nothing in hand")
        wait_for(lambda: self.page.find_elements(By.CSS_SELECTOR, "#bake"), "the recipe")
        self.press_with_control("z")
        wait_for(lambda: self.shot(shot_id).pieces[1].position == up, "undo")

    def test_the_ruler_tells_a_length_in_metres(self):
        self.open(falling_box(6, top_speed=72), "fall")
        self.straight()
        self.blur()
        self.press("r")
        metre = self.page.execute_script(METRE)
        for x in (-80, 80):
            chain, canvas = self.canvas()
            chain.move_to_element_with_offset(canvas, x, 0).click().perform()
        wait_for(lambda: self.labels(), "the length")
        self.assertAlmostEqual(float(self.labels()[0].split(" m")[0]), 160 / metre, delta=0.02)
        self.assertFalse(self.find("#in-hand").is_displayed())
        self.press(Keys.ESCAPE)
        wait_for(lambda: not self.labels(), "the ruler put away")

    def test_outlines_cut_exposure_and_clipped_pixels(self):
        shot_id = self.open(tiny(seed=41), "billow")
        self.blur()
        wait_for(lambda: "Nothing is baked yet" in self.find("#notice").text, "the page")
        whole = self.last_picture()
        self.press("o")
        self.changed(whole, 20_000, "outlines")
        self.press("o")
        wait_for(lambda: sum(abs(a - b) for a, b in zip(self.pixels(), whole)) < 2_000, "solid again")
        cut = (
            "const c = document.getElementById('cut'), a = document.getElementById('cut-at'); c.value = "
            "arguments[0]; c.dispatchEvent(new Event('input')); a.value = arguments[1]; a.dispatchEvent(new "
            "Event('input'));"
        )
        self.page.execute_script(cut, "x", 0.5)
        self.changed(whole, 15_000, "the cut")
        self.page.execute_script(cut, "", 0.5)
        wait_for(lambda: sum(abs(a - b) for a, b in zip(self.pixels(), whole)) < 2_000, "no cut")
        self.tool("clipped")
        wait_for(lambda: self.find("#clipped-share").text.endswith("%"), "the share of clipped pixels")
        fraction = lambda: float(self.find("#clipped-share").text[:-1])  # noqa: E731
        few = fraction()
        field = self.find("#exposure")
        self.page.execute_script("arguments[0].select()", field)
        field.send_keys("3", Keys.ENTER)
        wait_for(lambda: fraction() > few + 30, "a bright picture to clip")
        self.assertEqual(self.shot(shot_id).picture.exposure, 3.0)
        self.blur()
        self.press_with_control("z")
        wait_for(lambda: fraction() == few, "undo")
        # what is out of range is refused in words
        self.page.execute_script("arguments[0].select()", field)
        field.send_keys("99", Keys.ENTER)
        toasts = lambda: [x.text.lower() for x in self.page.find_elements(By.CSS_SELECTOR, ".toast")]  # noqa: E731
        wait_for(lambda: any("exposure" in t for t in toasts()), "the sentence")

    def test_cameras_are_added_chosen_and_frame_the_picture(self):
        shot_id = self.open(falling_box(6, top_speed=73), "fall")
        shape = "const m = document.getElementById('mask'); return m.clientWidth / m.clientHeight;"
        wait_for(lambda: abs(self.page.execute_script(shape) - 16 / 9) < 0.02, "the picture's shape")
        chain, canvas = self.canvas()
        chain.move_to_element(canvas).click_and_hold().move_by_offset(120, 0).release().perform()
        self.tool("from-here")
        wait_for(lambda: self.shot(shot_id).through == "camera 1", "the new camera")
        first, second = self.shot(shot_id).cameras
        self.assertNotEqual(first.eye, second.eye)
        wait_for(lambda: len(self.page.find_elements(By.CSS_SELECTOR, "#through option")) == 2, "the menu")
        before = self.pixels()
        self.page.execute_script(
            "const t = document.getElementById('through'); t.value = 'main'; t.dispatchEvent(new Event('change'));"
        )
        wait_for(lambda: self.shot(shot_id).through == "main", "the first camera again")
        self.changed(before, 2_000, "its view")
        self.page.execute_script("document.getElementById('set').click()")
        wait_for(lambda: self.page.find_elements(By.CSS_SELECTOR, '[id="f-picture.width"]'), "the panel")
        self.type("f-picture.width", "1080")
        wait_for(lambda: abs(self.page.execute_script(shape) - 1) < 0.02, "a square picture")

    def test_pressure_is_shown_on_a_cut_through_water_and_told_under_the_pointer(self):
        pool = parse(
            {
                "name": "Pool",
                "start": 1,
                "end": 2,
                "pieces": [
                    {
                        "name": "Floor",
                        "shape": {"kind": "box", "width": 4, "depth": 4, "height": 1},
                        "position": (0, 0, -1),
                        "motion": "fixed",
                    }
                ],
                "layers": [
                    {
                        "id": "flood",
                        "name": "Flood",
                        "kind": "flood",
                        "settings": {"cell_size": 0.15, "low": (-1.2, -1.2, 0), "high": (1.2, 1.2, 2), "level": 1.0},
                    },
                    {"id": "froth", "name": "Froth", "kind": "froth", "reads": ["flood"]},
                ],
                "cameras": [{"eye": (0, -6, 1.2), "target": (0, 0, 0.5), "lens": 40}],
            }
        )
        shot_id = self.open(pool, "flood")
        self.live.bake(shot_id, "flood")
        wait_for(lambda: self.health("flood") == "fresh", "the water")
        self.played()
        self.press(Keys.ARROW_RIGHT)
        wait_for(lambda: self.frame() == 2, "the second frame")
        choose = (
            "const c = document.getElementById(arguments[0]); c.value = arguments[1]; c.dispatchEvent(new "
            "Event('input'));"
        )
        self.page.execute_script(choose, "cut", "y")
        wait_for(lambda: self.find("#slice").is_displayed(), "what may be shown on the cut")
        self.page.execute_script(choose, "slice", "pressure")
        wait_for(lambda: self.find("#legend").text.startswith("pressure, kPa"), "the legend")
        self.assertEqual(self.find("#legend .ticks").text.split(), ["0", "5", "10"])
        self.page.execute_script(choose, "slice", "cells")
        wait_for(lambda: "by the grid alone" in self.find("#legend").text, "the kinds of cells")
        chain, canvas = self.canvas()
        chain.move_to_element(canvas).move_by_offset(1, 1).perform()
        wait_for(lambda: "of water here" in self.find("#probe").text, "what the pointer tells")
        self.assertIn("kPa", self.find("#probe").text)
        self.page.execute_script(choose, "cut", "")
        wait_for(lambda: not self.find("#slice").is_displayed(), "no cut")
        # kinds of points are seen or hidden by the legend
        self.live.bake(shot_id, "froth")
        wait_for(lambda: self.health("froth") == "fresh", "the froth")
        self.page.execute_script("document.querySelector('.band[data-id=froth] .name').click()")
        kinds = lambda: [  # noqa: E731
            (x.text, x.get_attribute("aria-pressed"))
            for x in self.page.find_elements(By.CSS_SELECTOR, "#legend button")
        ]
        seen = [(n, "true") for n in ("foam", "bubbles", "spray", "mist")]
        wait_for(lambda: kinds() == seen, "the kinds of froth")
        self.find("#legend button").click()
        wait_for(lambda: kinds() == [("foam", "false"), *seen[1:]], "no foam")
        self.page.execute_script("document.querySelector('.band[data-id=flood] .name').click()")
        wait_for(lambda: not kinds(), "no legend")

    def test_sources_are_seen_before_the_bake(self):
        self.open(smoke.shot(), "smoke")
        self.tool("sources")
        wait_for(lambda: self.labels(), "the source")
        text = self.labels()[0]
        self.assertRegex(text, r"Grain heap: [\d.]+ kg over frames 1 to \d+, [\d.]+ m/s")
        self.tool("sources")
        wait_for(lambda: not self.labels(), "nothing")

    def test_shapes_contacts_and_trails_are_drawn_where_frames_know_of_them(self):
        data = falling_box(16, top_speed=75).model_dump(mode="json")
        data["layers"][0]["keeps"], data["played"] = ["contacts"], 0.2
        self.open(parse(data), "fall")
        self.click("#bake")
        wait_for(lambda: self.health("fall") == "fresh", "the bake")
        self.played()
        # as it falls, by then it has turned and touched the floor
        self.press(*[Keys.ARROW_RIGHT] * 13)
        before = self.last_picture()
        self.click('[data-show="shapes"]')
        self.changed(before, 1_000, "shapes")
        drawn = lambda what: int(self.find("#stage").get_attribute(f"data-{what}"))  # noqa: E731
        # at rest on a face, after a fall of twelve frames
        for what, count in (("contacts", 4), ("trails", 12)):
            self.assertEqual(drawn(what), 0)
            self.click(f'[data-show="{what}"]')
            wait_for(lambda: drawn(what) == count, what)  # noqa: B023
        # two frames take ten fifths of a frame each to play
        self.assertIn("played at 0.2", self.find("#stamp").text)
        drawn_before, began = int(self.find("#stage").get_attribute("data-drawn")), time.monotonic()
        self.blur()
        self.press(Keys.SPACE)
        wait_for(lambda: self.find("#now-frame").text == "16", "the end")
        self.assertGreater(time.monotonic() - began, 0.3)
        self.assertGreater(int(self.find("#stage").get_attribute("data-drawn")), drawn_before)

    def test_a_movie_of_a_bake_half_done_is_kept_with_its_version(self):
        shot_id = self.open(falling_box(9, top_speed=74), "fall")
        self.blur()
        self.press(*[Keys.ARROW_RIGHT] * 4)
        self.click("#to-here")
        wait_for(lambda: self.health("fall") == "partial", "a part of the bake")
        wait_for(lambda: not self.find("#to-here").get_attribute("disabled"), "its end")
        self.press("m")
        form = self.find("#movie-form")
        wait_for(form.is_displayed, "the form")
        ends = [self.find(f'#movie-form [name="{n}"]').get_attribute("value") for n in ("from", "to")]
        self.assertEqual(ends, ["1", "5"])
        self.click("#movie-form button")
        wait_for(lambda: self.page.find_elements(By.CSS_SELECTOR, ".toast a"), "the movie", 60)
        self.assertIn("5 frames is kept with version 1", self.find(".toast").text)
        (path,) = (folder(self.live.store, shot_id) / "movies").glob("*.mp4")
        self.assertEqual(path.name, "v1-1-5-shot.mp4")
        with av.open(str(path)) as movie:
            pictures = [f.to_ndarray(format="rgb24") for f in movie.decode(video=0)]
        self.assertEqual(len(pictures), 5)
        self.assertAlmostEqual(pictures[0].shape[1] / pictures[0].shape[0], 16 / 9, delta=0.02)
        self.assertGreater(abs(pictures[4].astype(int) - pictures[0]).max(), 40)
        with session() as db:
            self.assertEqual([v.number for v in versions.every(db, shot_id)], [1])
        self.click("#versions")
        wait_for(lambda: self.page.find_elements(By.CSS_SELECTOR, ".movie a"), "its link")
        self.assertEqual(self.find(".movie a").text, "1-5-shot, movie")

    def test_sizes_of_the_chosen_layer_s_domain(self):
        self.open(smoke.shot(), "smoke")
        self.click('[data-show="domain"]')
        settings = smoke.shot().layers[0].settings
        # whole blocks of cells, so at least what was asked for
        sides = sorted(n * settings.cell_size for n in settings.shape())
        wait_for(lambda: len(self.labels()) >= 2, "its sizes")
        shown = {float(t.split()[0]) for t in self.labels()}
        self.assertTrue(shown <= {round(x, 2) for x in sides}, (shown, sides))

    def test_a_setting_and_a_material_are_given_to_others_on_the_page(self):
        shot, copy = layers.copied(tiny(seed=43), "billow")
        shot_id = self.open(shot, "billow")
        self.type("f-scalars.0.clearing", "3.5")
        wait_for(lambda: self.shot(shot_id).layer("billow").settings.scalars[0].clearing == 3.5, "the setting")
        menu = "const s = document.querySelector('#give select[name=path]'); s.value = arguments[0];"
        wait_for(lambda: self.page.execute_script(menu, "scalars.0.clearing") is None, "the menu")
        self.click("#give .chip")
        wait_for(
            lambda: self.shot(shot_id).layer(copy).settings.scalars[0].clearing == 3.5, "the other layer to have it"
        )
        self.click("#set")
        wait_for(lambda: self.page.find_elements(By.CSS_SELECTOR, "#give details"), "the panel")
        names = [p.name for p in shot.pieces]
        self.page.execute_script(
            "const p = document.getElementById('piece'); p.value = arguments[0]; p.dispatchEvent(new Event('change', "
            "{bubbles: true}));",
            names.index("Crate 1"),
        )
        wait_for(lambda: self.find('[id="f-name"]').get_attribute("value") == "Crate 1", "the crate")
        self.page.execute_script("document.querySelector('#give details').open = true;")
        for name in ("Drum 1", "Drum 2"):
            self.page.execute_script("document.querySelector(`#give input[value='${arguments[0]}']`).click()", name)
        self.page.execute_script("document.querySelector('#give .chip').click()")
        timber = self.shot(shot_id).piece("Crate 1").material
        wait_for(
            lambda: {self.shot(shot_id).piece(n).material for n in ("Drum 1", "Drum 2")} == {timber},
            "the drums to have it",
        )
        self.assertNotEqual(self.shot(shot_id).piece("Wall").material, timber)


class Large(unittest.TestCase):
    def test_large_cases_play_and_no_frame_weighs_more_than_20_megabytes(self):
        found = measure(frames=3)
        self.assertNotIn("error", found, found)
        self.assertEqual(set(found), {"bodies", "points", "volume", "surface"})
        for name, x in found.items():
            self.assertEqual(x["shown"], 3, name)
            self.assertTrue(0.01 < x["megabytes"] < 20, (name, x))


if __name__ == "__main__":
    unittest.main()
