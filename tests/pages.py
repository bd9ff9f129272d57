"""A page of the bench in a real browser, for the tests that drive it."""

import time
import unittest

from selenium import webdriver
from selenium.common.exceptions import NoSuchElementException, StaleElementReferenceException
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from tests import live
from tests.live import Live

FLAGS = (
    "--headless=new --no-sandbox --disable-quic --no-first-run --disable-background-networking "
    "--disable-component-update "
    "--disable-sync --use-angle=swiftshader --enable-unsafe-swiftshader --hide-scrollbars --window-size=1280,800"
)


def browser() -> webdriver.Chrome:
    """A headless Chromium that logs what pages complain of."""
    options = webdriver.ChromeOptions()
    options.binary_location = "/usr/bin/chromium"
    for flag in FLAGS.split():
        options.add_argument(flag)
    options.set_capability("goog:loggingPrefs", {"browser": "ALL"})
    driver = webdriver.Chrome(options=options, service=webdriver.ChromeService("/usr/bin/chromedriver"))
    metrics = {"width": 1280, "height": 800, "deviceScaleFactor": 1, "mobile": False}
    driver.execute_cdp_cmd("Emulation.setDeviceMetricsOverride", metrics)
    return driver


def wait_for(condition, what, seconds=30):
    """As for any test, but an element that is not there yet, or was just replaced, is looked for again."""

    def tolerant():
        try:
            return condition()
        except (NoSuchElementException, StaleElementReferenceException):
            return False

    return live.wait_for(tolerant, what, seconds)


class BenchTest(unittest.TestCase):
    """Server, worker and browser, and the bench of a shot."""

    @classmethod
    def setUpClass(cls):
        cls.live = cls.enterClassContext(Live())
        cls.page = browser()
        cls.addClassCleanup(cls.page.quit)

    def tearDown(self):
        severe = [
            e["message"] for e in self.page.get_log("browser") if e["level"] == "SEVERE" and "422" not in e["message"]
        ]
        self.assertEqual(severe, [])

    def find(self, selector):
        return self.page.find_element(By.CSS_SELECTOR, selector)

    def click(self, selector):
        """Bands and panels are drawn anew at each change, so what goes between finding and pressing is found again."""
        wait_for(lambda: self.find(selector).click() is None, f"{selector} to press")

    def open(self, shot, layer=""):
        shot_id = self.live.add(shot)
        self.page.get(f"{self.live.base}/shots/{shot_id}?layer={layer}")
        wait_for(lambda: self.page.find_elements(By.CSS_SELECTOR, ".band"), "the strata")
        wait_for(lambda: self.find("#stage").get_attribute("data-set"), "the set on the stage", 60)
        wait_for(lambda: self.find("#stage").get_attribute("data-drawn"), "the first picture")
        return shot_id

    def band(self, layer):
        return self.find(f'.band[data-id="{layer}"]')

    def health(self, layer):
        return self.page.execute_script(f"return document.querySelector('.band[data-id=\"{layer}\"]')?.dataset.state")

    def frame(self):
        return int(self.find("#now-frame").text)

    def played(self):
        """Wait until what has just been baked, which the page plays by itself, has been played; go to the first
        frame."""
        time.sleep(0.5)
        icon = lambda: self.find("#strata [data-icon]").get_attribute("data-icon")  # noqa: E731
        wait_for(lambda: "M2 1l9" in icon(), "it to have been played", 60)
        self.page.execute_script("document.activeElement.blur()")
        self.press_with_control(Keys.HOME)
        wait_for(lambda: self.frame() == 1, "the first frame")

    def press(self, *keys):
        webdriver.ActionChains(self.page).send_keys(*keys).perform()

    def press_with_control(self, key):
        webdriver.ActionChains(self.page).key_down(Keys.CONTROL).send_keys(key).key_up(Keys.CONTROL).perform()

    def type(self, field, text):
        # clearing by hand would already be a change, so the new text replaces what is selected
        node = self.find(f'[id="{field}"]')
        self.page.execute_script("arguments[0].select()", node)
        node.send_keys(text, Keys.ENTER)

    def last_picture(self):
        """Wait until pictures no longer change, and return the last."""
        wait_for(lambda: self.pixels() == (time.sleep(0.5) or self.pixels()), "a picture that stays")
        return self.pixels()

    def pixels(self):
        script = """
          const c = document.querySelector('#stage canvas'), g = document.createElement('canvas');
          g.width = 64; g.height = 40; const x = g.getContext('2d'); x.drawImage(c, 0, 0, 64, 40);
          return Array.from(x.getImageData(0, 0, 64, 40).data);"""
        return self.page.execute_script(script)
