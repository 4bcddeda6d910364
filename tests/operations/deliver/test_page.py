"""The page that shows a result: what it holds, and how it stands in a real browser, from a folder, without network."""

import base64
import io
import json
import re
import shutil
import tempfile
import time
import unittest
import zlib
from pathlib import Path

import numpy as np
from PIL import Image

from fasciculum.cli.main import main
from tests.builders import SQUARE, SQUARE_NORMALS, SQUARE_TRIANGLES, Glb, square_uvs

BROWSER, DRIVER = shutil.which("chromium"), shutil.which("chromedriver")
ARGUMENTS = ("--headless=new", "--no-sandbox", "--use-angle=swiftshader", "--enable-unsafe-swiftshader",
             "--window-size=1000,800", "--host-resolver-rules=MAP * ~NOTFOUND")  # fmt: skip


def picture(color):
    image = np.zeros((16, 16, 3), np.uint8)
    image[:] = color
    return image


class Page(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.folder = Path(tempfile.mkdtemp())
        glb = Glb()
        # a name that would end the page's own elements, were it not escaped
        for number, color in enumerate(((220, 30, 30), (30, 60, 220))):
            material = glb.material(glb.texture(picture(color)), doubleSided=True)
            mesh = glb.mesh(glb.primitive(SQUARE, SQUARE_TRIANGLES, material, [square_uvs()], NORMAL=SQUARE_NORMALS))
            glb.node(f"</script><b>plate {number}", mesh, translation=[1.05 * number, 0, 0])
            glb.node(f"copy {number}", mesh, translation=[1.05 * number, 1.05, 0])
        cls.model = glb.write(cls.folder / "plates.glb")
        code = main(["make", str(cls.model), "--out", str(cls.folder / "out"), "--size", "64", "--padding", "2",
                     "--seconds", "0", "--page", "--json"])  # fmt: skip
        assert code == 0
        cls.page = cls.folder / "out" / "plates_page.html"
        cls.text = cls.page.read_text()

    def test_it_is_announced_and_names_no_address(self):
        report = json.loads((self.folder / "out" / "plates_report.json").read_text())
        self.assertIn("plates_page.html", report["files"])
        self.assertEqual(set(report["files"]), {path.name for path in (self.folder / "out").iterdir()})
        self.assertEqual(re.findall(r"https?://", self.text), [])
        self.assertNotIn("{{", self.text)

    def test_names_cannot_become_elements(self):
        self.assertNotIn("<b>plate", self.text)
        self.assertEqual(self.text.count("</script>"), 3)

    def test_both_sides_hold_every_triangle_where_it_was(self):
        scene = json.loads(re.search(r'id="scene"[^>]*>(.*?)</script>', self.text, re.DOTALL)[1])
        blob = zlib.decompress(base64.b64decode(re.search(r'id="geometry"[^>]*>(.*?)</script>', self.text)[1]))
        sides = []
        for side in scene["sides"]:
            places = []
            for mesh in side["meshes"]:
                points = np.frombuffer(blob, "<f4", mesh["vertices"] * 3, mesh["positions"]).reshape(-1, 3)
                index = np.frombuffer(blob, "<u4", mesh["triangles"] * 3, mesh["indices"])
                matrices = np.frombuffer(blob, "<f4", mesh["count"] * 16, mesh["places"]).reshape(-1, 4, 4)
                for matrix in matrices:
                    places.append(points[index] @ matrix[:3, :3] + matrix[3, :3])
            whole = np.concatenate(places).reshape(-1, 9)
            sides.append(whole[np.lexsort(whole.T)])
        self.assertEqual(sides[0].shape, (8, 9))
        np.testing.assert_allclose(sides[0], sides[1], atol=1e-6)
        # copies are one mesh with several places
        self.assertEqual([mesh["count"] for mesh in scene["sides"][0]["meshes"]], [2, 2])

    @unittest.skipUnless(BROWSER and DRIVER, "chromium and its driver are not installed")
    def test_it_draws_both_sides_and_the_divider_is_dragged(self):
        from selenium import webdriver
        from selenium.webdriver.common.action_chains import ActionChains

        options = webdriver.ChromeOptions()
        options.binary_location = BROWSER
        for argument in ARGUMENTS:
            options.add_argument(argument)
        browser = webdriver.Chrome(options=options, service=webdriver.ChromeService(DRIVER))
        self.addCleanup(browser.quit)
        browser.get(self.page.as_uri())
        until = time.monotonic() + 60
        while not browser.execute_script("return document.body.dataset.drawn") and time.monotonic() < until:
            time.sleep(0.05)
        self.assertEqual([entry for entry in browser.get_log("browser") if entry["level"] == "SEVERE"], [])
        self.assertFalse(browser.find_element("id", "trouble").is_displayed())
        stage, divider = browser.find_element("id", "stage"), browser.find_element("id", "divider")

        def shown():
            time.sleep(0.3)
            return np.asarray(Image.open(io.BytesIO(stage.screenshot_as_png)).convert("RGB")).astype(int)

        def colored(pixels):
            """Tell which pixels are of the red and of the blue plates."""
            red, _, blue = pixels[..., 0], pixels[..., 1], pixels[..., 2]
            return red > blue + 60, blue > red + 60

        half = shown()
        red, blue = colored(half)
        # the model fills the view: nine tenths of the tighter side
        rows, columns = np.nonzero(red | blue)
        self.assertGreater(max(np.ptp(rows) / half.shape[0], np.ptp(columns) / half.shape[1]), 0.6)
        self.assertGreater(red.mean(), 0.03)
        self.assertGreater(blue.mean(), 0.03)
        pictures = []
        for offset in (-half.shape[1] * 0.48, half.shape[1] * 0.96):
            ActionChains(browser).drag_and_drop_by_offset(divider, round(offset), 0).perform()
            pictures.append(shown())
        self.assertGreater(int(divider.get_attribute("aria-valuenow")), 90)
        # all of the result, then all of the source: the same plates
        inner = slice(40, -40), slice(60, -60)
        error = np.abs(pictures[0][inner] - pictures[1][inner])
        self.assertLess(error.mean(), 3)
        ActionChains(browser).drag_and_drop_by_offset(browser.find_element("id", "view"), 120, 40).perform()
        self.assertGreater(np.abs(shown()[inner] - pictures[1][inner]).mean(), 3)


if __name__ == "__main__":
    unittest.main()
