"""Finding things by the words that people have for them: each word among the first three hits."""

import contextlib
import io
import json
import re
import unittest
from pathlib import Path

from fasciculum.cli.aliases import ALIASES
from fasciculum.cli.arguments import parser
from fasciculum.cli.find import Entry, entries, normal_words, one_off, search
from fasciculum.cli.main import main

#: words of the trade, and the names of what they are to lead to, one of which is among the first three hits
WORDS = {
    "deliver": "export, export model, publish, ship, output",
    "make_everything": "build, do all, run all, one click",
    "pack": "pack uvs, atlasing, nest, arrange, create atlas",
    "pack_fresh": "repack, from scratch",
    "bake": "render to texture, bake textures, transfer, texture baking",
    "check": "validate, verify, compare",
    "add_models": "import, load, add file",
    "add_folder": "import folder, directory",
    "add_high": "sculpt, import high-poly",
    "add_cage": "projection cage",
    "reload": "refresh, reimport",
    "textures": "relink, missing textures, texture browser",
    "quit": "exit, leave",
    "undo": "revert, step back",
    "redo": "step forward",
    "new_bundle": "group, merge, new atlas, make atlas",
    "remove_bundle": "ungroup, delete group",
    "remove_objects": "delete object, erase",
    "choose_all": "select all",
    "take_balanced": "optimise, optimize, automatic",
    "take_fewest": "reduce draw calls, fewest draw calls, batching",
    "take_smallest": "reduce memory, least memory",
    "stop_early": "stop packing, finish early",
    "cancel": "abort, interrupt",
    "queue": "jobs, progress, log",
    "flip": "toggle, before after, a/b",
    "frame": "zoom, focus, reset view",
    "widen_sheet": "full screen, uv editor, maximise",
    "widen_model": "viewport, 3d view",
    "guide": "help, manual, documentation",
    "follow": "auto reload, live link, watch folder, hot reload",
    "batch_add": "batch, overnight, unattended",
    "batch_start": "batch, run batch, render farm, night",
    "theme": "theme, dark mode, appearance",
    "turn_back": "rotate left, counterclockwise",
    "turn_on": "rotate right, clockwise",
    "mirror_across": "flip horizontal, flip u",
    "mirror_down": "flip vertical, flip v",
    "larger": "scale up, bigger",
    "smaller": "scale down, shrink",
    "pin": "lock, freeze, pin island",
    "choose_twins": "stacked, select duplicates",
    "unwrap_anew": "unwrap, uv unwrap, generate uvs, flatten",
    "cut_edges": "mark seam, add seam, split",
    "join_edges": "weld, sew, stitch, clear seam",
    "project_plane": "planar mapping, planar projection",
    "project_box": "box mapping, triplanar, cube projection",
    "project_cylinder": "cylindrical mapping",
    "project_sphere": "spherical mapping",
    "island_relax": "relax, minimise stretch, unfold",
    "island_straighten": "straighten",
    "island_rectangle": "gridify, rectify",
    "lens_checker": "uv grid, checkerboard, test pattern",
    "lens_density": "heat map, density heat map",
    "lens_stretch": "distortion, uv distortion",
    "lens_overlap": "overlapping uvs",
    "lens_mixing": "colour bleeding, mip bleeding, bleeding",
    "lens_waste": "empty space, unused space",
    "SheetSettings.width": "atlas size, texture size, resolution",
    "SheetSettings.padding": "gutter, spacing, island margin",
    "SheetSettings.margin": "border, outer padding",
    "SheetSettings.turns": "rotation, rotate islands, allow rotation",
    "SheetSettings.mirror": "allow flipping",
    "SheetSettings.density": "uniform scale, average island scale",
    "SheetSettings.twins": "overlap identical, symmetry, stack",
    "SheetSettings.seconds": "packing quality, iterations",
    "SheetSettings.tiles": "udim, multiple sheets",
    "SheetSettings.align": "pixel snapping, snap to texels, 4x4",
    "SheetSettings.smallest": "minimum size, tiny islands",
    "SheetSettings.wanted": "texel density, px per metre, pixels per unit",
    "UnwrapSettings.sharp": "angle limit, seam angle",
    "UnwrapSettings.stretch": "distortion limit",
    "BakeSettings.samples": "supersampling, antialiasing, anti-aliasing, ssaa",
    "BakeSettings.bleed": "dilation, edge padding, infill",
    "BakeSettings.bits": "bit depth, 16 bit, precision",
    "BakeSettings.format": "png, exr, targa, image format",
    "BakeSettings.edges": "smoothing groups, hard edges",
    "BakeSettings.edge_angle": "smoothing angle, auto smooth",
    "BakeSettings.ao_radius": "ao distance, occlusion radius",
    "BakeSettings.ao_of": "occluders, self occlusion",
    "BakeSettings.ao_floor": "ground, floor plane",
    "BakeSettings.reach_out": "ray distance, cage distance, frontal distance",
    "BakeSettings.bounces": "global illumination, gi",
    "BakeSettings.denoise": "denoise, noise, fireflies",
    "BakeSettings.exposure": "exposure, brightness, ev",
    "BakeSettings.lit_only": "unlit, baked lighting",
    "BakeSettings.light_uv": "lightmap, second uv, uv2, lightmap uvs",
    "BakeSettings.light_width": "lightmap size, lightmap resolution",
    "DeliverySettings.external_textures": "embed textures, separate textures",
    "DeliverySettings.pattern": "naming, naming convention",
    "DeliverySettings.packing": "channel packing, mask map, metallic smoothness",
    "DeliverySettings.green": "flip green, opengl, directx, normal y",
    "DeliverySettings.power_of_two": "npot, power of two",
    "DeliverySettings.combine": "merge, combine meshes, join, single mesh, instancing",
    "DeliverySettings.region": "chunks, split mesh, culling",
    "DeliverySettings.tangents": "tangent space, tangents",
    "base_color": "albedo, diffuse, basecolor",
    "opacity": "alpha, transparency",
    "normal": "normal map, bump, tangent normal",
    "orm": "packed map, occlusion roughness metallic",
    "roughness": "gloss, smoothness",
    "metallic": "metalness, metal",
    "emissive": "glow, emission, emission map",
    "ao": "ambient occlusion, ao, cavity",
    "bent_normal": "bent normals",
    "curvature": "convexity, edge wear, edge mask",
    "thickness": "translucency, subsurface, sss",
    "height": "displacement, heightmap, parallax",
    "lit": "full bake, beauty",
    "light": "light map, irradiance, lightmap",
    "light_straight": "direct light",
    "light_bounced": "indirect light, bounce light",
    "shadow": "shadow mask",
    "position": "world position",
    "object_normal": "world space normal, object space normal",
    "object_id": "id map, color id",
    "lane": "tileable, tiling strip",
    "slice": "texture array",
    "block": "shared texels, stacked uvs, overlapping uvs",
    "swatch": "solid color, flat colour",
    "apart": "keep material, exclude",
    "Gather/Pairing": "match by name",
    "Bake/High to low": "high to low",
    "Gather/Lights": "sun, hdri, environment",
    "Gather/Layers": "layers, moss, dirt, decals",
    "Gather/UV sets": "uv channel, texcoord, uv map",
    "Gather/Plan": "pareto, estimate",
    "Check/Budgets": "budget, performance budget, limits",
    "Check/Earlier delivery": "what changed, previous export",
    "Budget.triangles": "poly count limit",
    "DeliverySettings.page": "web page, html",
    "filter_list": "outliner, find object",
    "Lay out/Sheet": "trim sheet, palette, trims",
    "Lay out/Density multiplier": "density multiplier, importance",
    "Bake/Packed": "pack channels, rgba",
    "Bake/Named bakes": "presets, profiles",
    "Check/Findings": "errors, warnings, problems",
    "Deliver/Delivery": "export preset, engine",
    "missing_textures": "broken links, lost textures",
    "--farm": "distributed, cluster",
    "--onto": "hotspot",
}


def told(*words):
    out = io.StringIO()
    with contextlib.redirect_stdout(out):
        code = main(["find", *words])
    return code, out.getvalue()


class Finding(unittest.TestCase):
    def test_words_of_the_trade(self):
        lost, count = [], 0
        for name, words in WORDS.items():
            for word in words.split(", "):
                count += 1
                hits = [entry.name for entry in search(word)[:3]]
                if name not in hits:
                    lost.append((word, name, hits))
        self.assertGreaterEqual(count, 200)
        self.assertEqual(lost, [])

    def test_case_hyphens_plurals_and_one_misspelt_letter_do_not_matter(self):
        for word in ("Light-Map", "LIGHTMAPS", "lightmpa", "ligthmap", "lightmp", "light maps"):
            names = [entry.name for entry in search(word)[:3]]
            self.assertTrue({"light", "BakeSettings.light_uv"} & set(names), (word, names))
        self.assertEqual(search("colour depth")[0].name, search("color depth")[0].name)
        self.assertEqual(search("qzxv"), [])
        # every word counts
        self.assertEqual(search("light qzxv"), [])

    def test_one_letter_off(self):
        for a, b, wanted in (
            ("atlas", "altas", True), ("atlas", "atls", True), ("atlas", "atlass", True), ("atlas", "atlus", True),
            ("atlas", "atlas", True), ("atlas", "tals", False), ("merge", "gerem", False), ("a", "abc", False),
        ):  # fmt: skip
            self.assertEqual((one_off(a, b), one_off(b, a)), (wanted, wanted), (a, b))

    def test_words_as_they_are_compared(self):
        self.assertEqual(normal_words("Colour-Maps, CITIES"), ("color", "map", "city"))

    def test_what_fits_best_comes_first(self):
        some = [Entry("Merge cell size", "setting"), Entry("Merge", "setting"), Entry("Other", "setting", text="merge")]
        self.assertEqual([entry.title for entry in search("merge", some)], ["Merge", "Merge cell size", "Other"])

    def test_pages_and_their_headings_exist(self):
        root = Path(__file__).resolve().parents[2]
        pages = {}
        for entry in entries():
            if not entry.page:
                continue
            name, _, anchor = entry.page.partition("#")
            if name not in pages:
                text = (root / name).read_text()
                headings = [line.lstrip("# ").strip().lower() for line in text.splitlines() if line.startswith("#")]
                pages[name] = {re.sub(r"[^a-z0-9 -]", "", one).replace(" ", "-") for one in headings}
            self.assertTrue(not anchor or anchor in pages[name], entry.page)

    def test_options_are_those_of_the_command_line(self):
        known = set()
        for action in parser()._actions:
            for command in action.choices.values() if isinstance(action.choices, dict) else ():
                known |= {option for one in command._actions for option in one.option_strings}
        for entry in entries():
            for word in (entry.option or "").split():
                if word.startswith("--"):
                    self.assertIn(word, known, entry.title)

    def test_other_words_belong_to_something_that_there_is(self):
        names = {(entry.kind, entry.name) for entry in entries()}
        lost = [key for key in ALIASES if tuple(key.split(":", 1)) not in names]
        self.assertEqual(lost, [])

    def test_every_entry_says_what_it_is(self):
        for entry in entries():
            self.assertTrue(entry.title.strip(), entry)
            if entry.kind not in ("option", "page"):
                self.assertTrue(entry.text.strip(), entry)

    def test_hits_come_as_one_types(self):
        for typed in ("pa", "pad", "padd", "paddi", "paddin", "padding"):
            self.assertIn("Padding", [entry.title for entry in search(typed, most=60)], typed)
        self.assertTrue(search("d"))

    def test_the_contract(self):
        code, out = told("lightmap", "--json")
        report = json.loads(out)
        self.assertEqual((code, report["version"]), (0, 1))
        self.assertLessEqual(len(report["hits"]), 10)
        kinds = ["command", "setting", "map", "check", "treatment", "view", "page", "option", "verb"]
        for hit in report["hits"]:
            self.assertEqual(set(hit), set(["title", "kind", "where", "option", "shortcut", "page", "text"]))
            self.assertIn(hit["kind"], kinds)
        self.assertEqual({entry.kind for entry in entries()}, set(kinds))
        code, out = told("qzxv", "--json")
        self.assertEqual((code, json.loads(out)["hits"]), (1, []))
        code, out = told("export")
        self.assertEqual(code, 0)
        self.assertTrue(out.startswith("Deliver (command)"))


if __name__ == "__main__":
    unittest.main()
