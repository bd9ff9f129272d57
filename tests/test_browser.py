"""The bench in a real browser: an artist's round from a first bake to a changed number."""

import time
import unittest

from selenium import webdriver
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from tests.pages import BenchTest, wait_for
from tests.shots import falling_box, tiny
from urst.shot.document import parse


class Bench(BenchTest):
    def test_first_bake_change_a_number_bake_again_undo(self):
        self.open(tiny(), "shed")
        self.assertIn("Nothing is baked yet", self.find("#notice").text)
        self.click("#bake")
        wait_for(lambda: "Stop" in self.find("#bake").text, "the bake to begin")
        wait_for(lambda: self.health("billow") == "fresh", "the bake to end", 120)
        wait_for(lambda: "Bake Shed" in self.find("#bake").text, "the button to come back")
        self.type("f-chips", "77")
        wait_for(lambda: self.health("shed") == "stale" and self.health("billow") == "stale", "the bands to turn stale")
        self.assertEqual((self.health("break"), self.health("fall")), ("fresh", "fresh"))
        wait_for(lambda: "stale" in self.find("#stamp").text, "the stamp")
        self.page.execute_script("document.activeElement.blur()")
        self.press_with_control("z")
        wait_for(lambda: self.health("billow") == "fresh", "undo to find the old bake")
        wait_for(lambda: self.find('[id="f-chips"]').get_attribute("value") == "260", "the recipe to follow")

    def test_scrub_play_and_see_it_move(self):
        shot_id = self.open(tiny(), "fall")
        self.live.bake(shot_id, "break")
        wait_for(lambda: self.health("billow") == "fresh", "the page to hear of it")
        # a first bake is followed, and then played from the start
        wait_for(lambda: self.frame() == 18, "the end of what was baked", 30)
        self.played()
        wait_for(lambda: not self.find("#notice").is_displayed(), "the first frame")
        first = self.last_picture()
        self.press(Keys.ARROW_RIGHT, Keys.ARROW_RIGHT)
        self.assertEqual(self.frame(), 3)
        self.press_with_control(Keys.ARROW_RIGHT)
        self.assertEqual(self.frame(), 13)
        lane = self.find('.band[data-id="fall"] .lane')
        webdriver.ActionChains(self.page).move_to_element_with_offset(
            lane, lane.size["width"] // 2 - 112, 0
        ).click_and_hold().move_by_offset(100, 0).release().perform()
        self.assertEqual(self.frame(), 18)
        wait_for(lambda: sum(abs(a - b) for a, b in zip(self.pixels(), first)) > 20_000, "a different picture")
        self.press(" ")
        wait_for(lambda: self.frame() not in (18,), "playing from the start")
        # a key goes where it says, and what plays stops there
        self.press_with_control(Keys.HOME)
        time.sleep(0.5)
        self.assertEqual(self.frame(), 1)
        self.press(" ")
        wait_for(lambda: self.frame() == 18, "playing to the end", 30)

    def test_the_views_colours_and_the_probe(self):
        shot_id = self.open(tiny(), "fall")
        self.live.bake(shot_id, "break")
        wait_for(
            lambda: self.health("billow") == "fresh" and not self.find("#notice").is_displayed(), "the first frame"
        )
        self.played()
        wait_for(lambda: self.pixels() == (time.sleep(0.5) or self.pixels()), "the last of the first pictures")
        plain = self.pixels()
        for mode in ("fragment", "speed", "strain", "load"):
            self.click(f'[data-mode="{mode}"]')
            wait_for(lambda: sum(abs(a - b) for a, b in zip(self.pixels(), plain)) > 5_000, f"colours by {mode}")
        self.assertIn("pressed by", self.find("#legend").text)
        canvas = self.find("#stage canvas")
        webdriver.ActionChains(self.page).move_to_element_with_offset(canvas, 20, 20).move_by_offset(2, 2).perform()
        wait_for(lambda: "Wall · fragment" in self.find("#probe").text, "the probe")
        self.assertRegex(self.find("#probe").text, r"kg\s+0\.\d m/s")
        before = self.pixels()
        self.page.execute_script(
            "const e = document.getElementById('explode'); e.value = 1; e.dispatchEvent(new Event('input'));"
        )
        wait_for(lambda: sum(abs(a - b) for a, b in zip(self.pixels(), before)) > 5_000, "the exploded view")

    def test_a_bad_value_is_explained_beside_its_field(self):
        self.open(tiny(), "break")
        self.type("f-count", "0")
        wait_for(lambda: self.page.find_elements(By.CSS_SELECTOR, "#wrong"), "the explanation")
        self.assertIn("it must be 1 or more", self.find("#wrong").text)
        self.assertEqual(self.find('[id="f-count"]').get_attribute("aria-invalid"), "true")

    def test_the_palette_and_the_themes(self):
        self.open(falling_box(5), "fall")
        self.page.execute_script("document.activeElement.blur()")
        self.press_with_control("k")
        wait_for(lambda: self.find("#palette").get_attribute("open") is not None, "the palette")
        self.press("colour speed", Keys.ENTER)
        wait_for(lambda: self.find('[data-mode="speed"]').get_attribute("aria-pressed") == "true", "the command")
        self.click("[data-theme-switch]")
        self.assertEqual(self.find("html").get_attribute("data-theme"), "plaster")
        self.page.refresh()
        self.assertEqual(self.find("html").get_attribute("data-theme"), "plaster")
        wait_for(lambda: self.page.find_elements(By.CSS_SELECTOR, ".band"), "the strata")
        self.click("[data-theme-switch]")

    def test_a_server_that_is_gone_is_said_and_waited_for(self):
        self.open(falling_box(5), "fall")
        self.live.kill("serve")
        wait_for(lambda: "does not answer" in self.find(".toast").text, "the notice")
        self.live.start("serve", "--port", str(self.live.port))
        wait_for(lambda: not self.page.find_elements(By.CSS_SELECTOR, ".toast"), "the notice to go")
        self.click("#bake")
        wait_for(lambda: self.health("fall") == "fresh", "a bake all the same", 60)
        # the browser's own words about the lost connection are no fault of the page
        self.page.get_log("browser")

    def test_the_set_is_changed_on_the_page(self):
        self.open(tiny(), "fall")
        self.click("#set")
        wait_for(lambda: self.page.find_elements(By.CSS_SELECTOR, "#piece"), "the panel")
        names = [o.text for o in self.find("#piece").find_elements(By.TAG_NAME, "option")]
        choose = (
            "const s = document.getElementById('piece'); s.value = arguments[0]; s.dispatchEvent(new Event('change', "
            "{ bubbles: true }));"
        )
        self.page.execute_script(choose, str(names.index("Counterweight")))
        wait_for(lambda: self.page.find_elements(By.CSS_SELECTOR, "#keys .key"), "the keys")
        before = len(self.page.find_elements(By.CSS_SELECTOR, "#keys .key"))
        self.page.execute_script("document.querySelector('#keys > button').click()")
        wait_for(lambda: len(self.page.find_elements(By.CSS_SELECTOR, "#keys .key")) == before + 1, "one key more")
        self.page.execute_script("document.querySelector('#add-cue').click()")
        wait_for(lambda: "cue 1" in [f.text for f in self.page.find_elements(By.CSS_SELECTOR, ".flag")], "the flag")
        self.click("#commands")
        wait_for(lambda: self.find("#palette").get_attribute("open") is not None, "the palette")
        self.press(Keys.ESCAPE)

    def test_layers_are_added_named_linked_put_elsewhere_and_taken_out(self):
        self.open(tiny(), "shed")
        shown = lambda: self.page.execute_script(  # noqa: E731
            "return [...document.querySelectorAll('.band')].map(b => b.dataset.id + (b.classList.contains('chosen') ? "
            "'*' : ''))"
        )
        self.click("#add-layer")
        self.press("shed", Keys.ENTER)
        wait_for(lambda: shown() == ["break", "fall", "shed", "billow", "shed-2*"], "a second shed")
        wait_for(lambda: self.find(".title h2 input").get_attribute("value") == "Shed 2", "its recipe")
        self.page.execute_script("document.activeElement.blur()")
        self.press(Keys.ARROW_UP)
        wait_for(lambda: shown()[3] == "billow*", "the layer above")
        wait_for(lambda: len(self.page.find_elements(By.CSS_SELECTOR, "#links label")) == 3, "its links")
        self.click("#links form:last-child input[type=checkbox]")
        wait_for(
            lambda: "reads Fall, Shed, Shed 2" in self.find('.band[data-id="billow"] .name').get_attribute("title"),
            "the link",
        )
        self.page.execute_script("document.activeElement.blur()")
        webdriver.ActionChains(self.page).key_down(Keys.ALT).send_keys(Keys.ARROW_UP).key_up(Keys.ALT).perform()
        wait_for(lambda: shown() == ["break", "fall", "billow*", "shed", "shed-2"], "one up by the keyboard")
        wait_for(lambda: self.find("#recipe .title"), "the recipe")
        self.carry("billow", 1)
        wait_for(lambda: shown()[-2:] == ["billow*", "shed-2"], "one down by the mouse")
        self.press_with_control("d")
        wait_for(lambda: shown()[-3:] == ["billow", "billow-2*", "shed-2"], "a copy")
        wait_for(lambda: self.find(".title h2 input").get_attribute("value") == "Billow 2", "the copy's recipe")
        title = self.find(".title h2 input")
        self.page.execute_script("arguments[0].select()", title)
        title.send_keys("Far dust", Keys.ENTER)
        wait_for(lambda: "Far dust" in self.band("billow-2").text, "the new name")
        self.page.execute_script("document.activeElement.blur()")
        self.press(Keys.DELETE)
        wait_for(lambda: "billow-2" not in " ".join(shown()), "it to go")
        self.press_with_control("z")
        wait_for(lambda: "Far dust" in self.find("#bands").text, "undo to bring it back")
        self.click('.band[data-id="fall"] .lane')
        wait_for(lambda: "fall*" in shown(), "a press on the band to choose")
        self.assertEqual(self.frame(), 1)
        self.press("s")
        eyes = lambda: [e.text for e in self.page.find_elements(By.CSS_SELECTOR, ".eye")]  # noqa: E731
        wait_for(lambda: eyes() == ["○", "●", "○", "○", "○", "○"], "it alone")
        self.press("s", "h")
        wait_for(lambda: eyes() == ["●", "○", "●", "●", "●", "●"], "all but it")
        self.press("h")

    def carry(self, layer, rows):
        name = self.find(f'.band[data-id="{layer}"] .name')
        far = rows * self.band(layer).size["height"]
        webdriver.ActionChains(self.page).click_and_hold(name).move_by_offset(0, far // 2).move_by_offset(
            0, far - far // 2
        ).release().perform()

    def test_live_bakes_a_draft_at_each_change_and_keeps_it_apart(self):
        shot_id = self.open(tiny(), "fall")
        self.live.bake(shot_id, "break")
        wait_for(lambda: self.health("billow") == "fresh", "the page to hear of it")
        self.click("#live")
        wait_for(lambda: self.find("#strata").get_attribute("data-quality") == "draft", "the draft")
        wait_for(lambda: self.health("billow") == "fresh", "the draft to be baked", 60)
        self.assertIn("draft", self.band("fall").text)
        self.assertEqual(self.find("#stamp").text, "draft")
        self.type("f-top_speed", "60")
        wait_for(lambda: self.health("fall") in ("stale", "partial"), "the draft to be baked anew")
        wait_for(lambda: self.health("billow") == "fresh", "its end", 60)
        self.click('[data-quality="shot"]')
        wait_for(lambda: self.health("fall") == "stale", "results of the shot's own quality")
        self.assertIn("Fall, Shed, Billow stale", self.find("#stamp").text)
        self.click("#live")
        self.page.execute_script("document.activeElement.blur()")
        self.press_with_control("z")
        wait_for(lambda: self.health("billow") == "fresh", "undo to find the first bake", 60)

    def test_flip_to_before_and_back_to_a_version(self):
        shot_id = self.open(falling_box(8, top_speed=43), "fall")
        self.live.bake(shot_id, "fall")
        wait_for(lambda: self.health("fall") == "fresh", "the page to hear of it")
        self.page.execute_script("document.activeElement.blur()")
        self.press("k")
        wait_for(lambda: self.page.find_elements(By.CSS_SELECTOR, ".version"), "a version")
        self.click('.band[data-id="fall"] .lane')
        wait_for(lambda: self.page.find_elements(By.CSS_SELECTOR, '[id="f-top_speed"]'), "the recipe")
        self.type("f-top_speed", "44")
        wait_for(lambda: self.health("fall") == "stale", "the change")
        self.live.bake(shot_id, "fall")
        wait_for(lambda: self.health("fall") == "fresh", "the page to hear of it")
        self.page.execute_script("document.activeElement.blur()")
        self.press("b")
        wait_for(lambda: "Speed limit 43 → 44 m/s" in self.find("#against").text, "what differs")
        wait_for(lambda: self.health("fall") == "fresh", "the earlier result")
        self.press("b")
        wait_for(lambda: not self.find("#against").is_displayed(), "this again")
        self.click("#versions")
        wait_for(lambda: self.page.find_elements(By.CSS_SELECTOR, "[data-see]"), "the list")
        self.click("[data-see]")
        wait_for(lambda: "version 1" in self.find("#against").text, "the version")
        self.click("[data-back]")
        wait_for(lambda: not self.find("#against").is_displayed() and self.health("fall") == "fresh", "it in force")
        self.click('.band[data-id="fall"] .name')
        found = lambda: self.page.find_elements(By.CSS_SELECTOR, '[id="f-top_speed"]')  # noqa: E731
        wait_for(lambda: [e.get_attribute("value") for e in found()] == ["43"], "its setting")

    def test_a_finding_is_accepted_on_the_page(self):
        data = falling_box(6).model_dump(mode="json")
        data["pieces"][1]["position"] = (0, 0, -0.05)
        self.open(parse(data), "fall")
        wait_for(lambda: "1 finding" in self.find("#findings-count").text, "the finding")
        # what is wrong comes first, and is shown at a press
        self.assertIn("finding", self.find("#gauges > *").get_attribute("class"))
        self.click("#findings-count")
        wait_for(lambda: self.find(".finding.at").is_displayed(), "the finding that is gone to")
        self.page.execute_script("document.querySelector('.finding button:last-child').click()")
        self.press("sunk on purpose", Keys.ENTER)
        wait_for(lambda: self.find("#findings-count").text == "no findings", "it to be no longer open")
        self.assertIn("Accepted: sunk on purpose", self.find(".finding").text)

    def test_straight_views_have_a_scale_and_lead_back(self):
        self.open(falling_box(5, top_speed=47), "fall")
        self.page.execute_script("document.activeElement.blur()")
        wait_for(lambda: "Nothing is baked yet" in self.find("#notice").text, "the page")
        # the last of the first pictures
        wait_for(lambda: self.pixels() == (time.sleep(0.5) or self.pixels()), "the set")
        first = self.pixels()
        metre = (
            "const b = document.getElementById('bar'), t = b.textContent; return b.clientWidth / (parseFloat(t) / "
            "(t.endsWith('cm') ? 100 : 1))"
        )
        scales = set()
        for key, view in (("2", "front"), ("3", "side"), ("4", "top")):
            self.press(key)
            pressed = f'[data-look="{view}"][aria-pressed="true"]'
            wait_for(lambda p=pressed: self.page.find_elements(By.CSS_SELECTOR, p), view)
            wait_for(lambda: self.find("#bar").is_displayed(), "the scale")
            wait_for(lambda: sum(abs(a - b) for a, b in zip(self.pixels(), first)) > 20_000, "another picture")
            scales.add(round(self.page.execute_script(metre)))
        # the box of 0.4 m fills two thirds of the width, whichever way it is looked at
        wide = self.find("#stage").size["width"]
        self.assertLessEqual(max(scales) - min(scales), 0.02 * max(scales))
        self.assertAlmostEqual(max(scales), wide / (1.5 * 0.4), delta=0.02 * wide / 0.6)
        self.press("1")
        wait_for(lambda: sum(abs(a - b) for a, b in zip(self.pixels(), first)) < 2_000, "the view from before")
        self.assertFalse(self.find("#bar").is_displayed())
        self.page.execute_script("HTMLAnchorElement.prototype.click = function () { window.saved = this.download; }")
        self.press("p")
        wait_for(lambda: self.page.execute_script("return window.saved") == "Box 0001.png", "the still")

    def test_bake_to_here(self):
        self.open(tiny(seed=22), "fall")
        self.page.execute_script("document.activeElement.blur()")
        self.press(*[Keys.ARROW_RIGHT] * 4)
        self.click("#to-here")
        wait_for(lambda: "5/18" in self.band("fall").text, "five frames", 60)
        wait_for(lambda: "5/18" in self.band("billow").text, "of all that follows", 60)

    def test_a_shot_without_layers_offers_to_begin(self):
        shot_id = self.live.add(tiny())
        self.page.get(f"{self.live.base}/shots/{shot_id}?layer=gone")
        for left in (3, 2, 1, 0):
            wait_for(lambda n=left: len(self.page.find_elements(By.CSS_SELECTOR, ".band")) == n + 1, "the strata")
            self.page.execute_script("document.activeElement.blur()")
            self.press(Keys.DELETE)
            wait_for(lambda n=left: len(self.page.find_elements(By.CSS_SELECTOR, ".band")) == n, "one layer less")
        wait_for(lambda: "No layers yet" in self.find("#recipe").text, "the offer")
        self.click('[data-add="break"]')
        wait_for(lambda: self.page.find_elements(By.CSS_SELECTOR, '.band[data-id="break"].chosen'), "the first layer")

    def test_shots_and_queue_pages(self):
        shot_id = self.open(falling_box(5), "fall")
        self.live.bake(shot_id, "fall")
        self.page.get(f"{self.live.base}/queue")
        self.assertIn("done", self.find("#table").text)
        self.page.get(self.live.base)
        self.assertIn("Fall fresh", self.find("main").text)
        self.click("article a")
        wait_for(lambda: self.page.find_elements(By.CSS_SELECTOR, ".band"), "the bench")


if __name__ == "__main__":
    unittest.main()
