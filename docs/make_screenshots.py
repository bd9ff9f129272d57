"""Makes docs/screenshots/ anew: bakes the demo in a store of its own and photographs each main view."""

import sys
import time
from pathlib import Path

from selenium import webdriver
from selenium.webdriver.common.by import By

from tests.live import Live, wait_for
from tests.pages import browser
from urst.demo import basin, cask, glasshouse, granary, swell
from urst.shot import layers

OUT = Path(__file__).parent / "screenshots"


def _many(shot):
    """The shot with eight layers more."""
    for kind in ("break", "fall", "shed", "billow") * 2:
        shot, _ = layers.added(shot, kind)
    return shot


def main() -> int:
    """Write the pictures; return 0."""
    OUT.mkdir(exist_ok=True)
    with Live() as live:
        shot_id = live.add(granary.shot())
        page = browser()
        bench = f"{live.base}/shots/{shot_id}"

        def picture(name):
            time.sleep(2.5)
            page.save_screenshot(str(OUT / f"{name}.png"))
            print(name, flush=True)

        def click(x, y):
            canvas = page.find_element(By.CSS_SELECTOR, "#stage canvas")
            webdriver.ActionChains(page).move_to_element_with_offset(canvas, x, y).click().perform()

        def at(frame, layer="fall", mode="material"):
            page.get(f"{bench}?layer={layer}")
            wait_for(lambda: page.find_elements(By.CSS_SELECTOR, ".band"), "the strata", 60)
            time.sleep(2)
            page.execute_script(
                "for (let i = 1; i < arguments[0]; i += 1) document.body.dispatchEvent("
                "new KeyboardEvent('keydown', { key: 'ArrowRight', bubbles: true }));"
                "document.querySelector(`[data-mode=${arguments[1]}]`).click()",
                frame,
                mode,
            )

        try:
            live.client.post(f"/shots/{shot_id}/bake/break").raise_for_status()

            def health(layer):
                return next(x for x in live.state(shot_id)["layers"] if x["id"] == layer)

            wait_for(lambda: health("billow")["done"] > 30, "half a bake", 600)
            at(26, "billow")
            picture("baking")
            wait_for(lambda: not live.state(shot_id)["runs"], "the bake", 900)
            at(1, "break")
            page.execute_script(
                "const e = document.getElementById('explode'); e.value = 0.55; e.dispatchEvent(new Event('input'));"
                "document.querySelector('[data-mode=fragment]').click()"
            )
            picture("exploded")
            at(26)
            picture("bench")
            at(22, mode="speed")
            page.execute_script("document.querySelector('[data-show=dust]').click()")
            picture("speed")
            for path, value in (
                ("chips", "over speed 0: 0, 1.5: 120, 6: 400"),
                ("puff_giving", "over age 0: 1, 0.35: 0"),
            ):
                live.client.post(
                    f"/shots/{shot_id}/recipe/shed", data={"path": path, "value": value}
                ).raise_for_status()
            at(20, "shed")
            picture("curves")
            for _ in range(2):
                live.client.post(f"/shots/{shot_id}/history/undo").raise_for_status()
            at(1)
            click(-90, 0)
            picture("in-hand")
            at(40, "billow")
            page.execute_script("document.querySelector('[data-theme-switch]').click()")
            picture("plaster")
            page.execute_script("document.querySelector('[data-theme-switch]').click()")
            many = live.add(_many(granary.shot()))
            page.get(f"{live.base}/shots/{many}?layer=billow-2")
            wait_for(lambda: len(page.find_elements(By.CSS_SELECTOR, ".band")) == 12, "twelve bands", 60)
            webdriver.ActionChains(page).move_to_element(
                page.find_element(By.CSS_SELECTOR, '[data-id="fall"] .name')
            ).perform()
            picture("twelve")
            fields = {"path": "bonds.tension", "value": "0.2 MPa"}
            live.client.post(f"/shots/{shot_id}/recipe/fall", data=fields).raise_for_status()
            live.client.post(f"/shots/{shot_id}/versions", data={"name": "weaker mortar"}).raise_for_status()
            live.bake(shot_id, "fall", 600, to=30)
            at(26)
            page.find_element(By.CSS_SELECTOR, "#versions").click()
            page.find_element(By.CSS_SELECTOR, "#flip").click()
            picture("before")
            live.client.post(f"/shots/{shot_id}/history/undo").raise_for_status()
            page.get(bench)
            wait_for(lambda: page.find_elements(By.CSS_SELECTOR, ".band"), "the strata", 60)
            page.find_element(By.CSS_SELECTOR, "#set").click()
            picture("set")
            for name, value in (("Quay", None), ("Counterweight", "60")):
                live.client.post(f"/shots/{shot_id}/taking-part", data={"of": name}).raise_for_status()
                if value:
                    row = {"path": "taking_part.1.until", "value": value}
                    live.client.post(f"/shots/{shot_id}/whole/0", data=row).raise_for_status()
            page.get(bench)
            wait_for(lambda: page.find_elements(By.CSS_SELECTOR, ".band"), "the strata", 60)
            page.find_element(By.CSS_SELECTOR, "#set").click()
            wait_for(lambda: page.find_elements(By.CSS_SELECTOR, "#taking-part"), "the panel")
            page.execute_script("document.querySelector('#taking-part').scrollIntoView()")
            picture("taking-part")
            for _ in range(3):
                live.client.post(f"/shots/{shot_id}/history/undo").raise_for_status()
            for name, shot, frame, layer in (
                ("swell", swell.shot(cell_size=0.2, end=36), 34, "skin"),
                ("cask", cask.shot(cell_size=0.06, end=62), 62, "flood"),
                ("glasshouse", glasshouse.shot(end=24), 14, "fall"),
                ("basin", basin.shot(cell_size=0.14, end=34), 32, "flood"),
            ):
                other = live.add(shot)
                live.bake(other, shot.layers[0].id, 900)
                bench = f"{live.base}/shots/{other}"
                at(frame, layer)
                if name == "basin":
                    page.execute_script(
                        "const set = (id, x) => { const e = document.getElementById(id); e.value = x;"
                        "e.dispatchEvent(new Event('input')); }; set('cut', 'y'); set('cut-at', 0.42);"
                        "setTimeout(() => set('slice', 'pressure'), 500)"
                    )
                picture(name)
            bench = f"{live.base}/shots/{shot_id}"
            live.client.post(f"/shots/{shot_id}/handover", data={"what": ["csv", "gltf", "usd"]}).raise_for_status()
            wait_for(lambda: not live.state(shot_id)["runs"], "the hand-over", 300)
            for name, address in (
                ("shots", live.base),
                ("queue", f"{live.base}/queue"),
                ("handover", f"{bench}/handover"),
                ("handbook", f"{live.base}/handbook/fall"),
            ):
                page.get(address)
                picture(name)
        finally:
            page.quit()
    return 0


if __name__ == "__main__":
    sys.exit(main())
