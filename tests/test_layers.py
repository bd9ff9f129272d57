"""The list of layers: proposals, copies, order, links; many of a kind side by side."""

import tempfile
import unittest
from pathlib import Path

import numpy as np

from tests.shots import falling_box, tiny
from urst.bake import runner
from urst.core.checks.findings import Finding
from urst.demo import sluice
from urst.errors import BadValue
from urst.shot import giving, layers
from urst.shot.accepted import Accepted, reason, without_numbers
from urst.shot.document import parse
from urst.shot.keys import layer_keys
from urst.shot.preflight import preflight
from urst.shot.starter import starter
from urst.store.store import Store
from urst.web.data import look_of


def bare(shot):
    return parse(shot.model_dump(mode="json") | {"layers": [], "couplings": [], "uses": []})


class Proposals(unittest.TestCase):
    def test_an_empty_shot_is_filled_layer_by_layer_with_nothing_to_find(self):
        shot = bare(starter("new"))
        for kind in ("break", "fall", "shed", "billow"):
            shot, name = layers.added(shot, kind)
            self.assertEqual(name, kind)
        self.assertEqual([x.reads for x in shot.layers], [(), ("break",), ("fall",), ("fall", "shed")])
        self.assertEqual(shot.layer("break").settings.pieces, ("Wall",))
        self.assertEqual([f.title for f in preflight(shot)], [])

    def test_a_domain_holds_what_gives_off_dust_and_the_floor_below_it(self):
        shot, _ = layers.added(starter("new"), "billow")
        s = shot.layer("billow-2").settings
        wall = np.array([(-2, -0.15, 0), (2, 0.15, 2.5)])
        self.assertTrue((np.array(s.low) < wall[0]).all() and (np.array(s.high) > wall[1]).all())
        self.assertLess(s.cell_size, shot.layer("shed").settings.puff_radius)
        self.assertLess(s.cells(), 2_000_000)

    def test_sizes_follow_the_set(self):
        made = {}
        for scale in (1.0, 0.1):
            data = bare(starter("new")).model_dump(mode="json")
            for piece in data["pieces"]:
                piece["position"] = [x * scale for x in piece["position"]]
                piece["shape"] |= {k: x * scale for k, x in piece["shape"].items() if isinstance(x, float)}
            shot = parse(data)
            for kind in ("break", "fall", "shed", "billow"):
                shot, _ = layers.added(shot, kind)
            shot = parse(shot.model_dump(mode="json"))
            fragments = shot.layer("break").settings.count
            made[scale] = shot.layer("shed").settings, shot.layer("billow").settings, fragments
        (large, room, n), (small, box, m) = made[1.0], made[0.1]
        side = 0.1 * (n / m) ** (1 / 3)
        self.assertAlmostEqual(small.largest / large.largest, side, delta=0.1 * side)
        self.assertAlmostEqual(small.puff_radius / large.puff_radius, side, delta=0.1 * side)
        self.assertAlmostEqual((box.high[2] - box.low[2]) / (room.high[2] - room.low[2]), 0.1, delta=0.01)

    def test_a_new_layer_takes_what_no_other_of_its_kind_takes(self):
        shot, _ = layers.added(starter("new"), "break")
        self.assertEqual(shot.layer("break-2").settings.pieces, ("Ball",))
        shot, _ = layers.added(shot, "fall")
        self.assertEqual(shot.layer("fall-2").reads, ("break-2",))
        shot, _ = layers.added(shot, "fall")
        self.assertEqual(shot.layer("fall-3").reads, ("break-2",))
        with self.assertRaisesRegex(BadValue, "Nothing is left to break: .* add a piece"):
            layers.added(shot, "break")
        with self.assertRaisesRegex(BadValue, "'foam' is no kind of layer; there are break"):
            layers.added(shot, "foam")

    def test_without_bodies_a_piece_gives_off_points_and_dust(self):
        shot = bare(falling_box())
        for kind in ("shed", "billow"):
            alone, name = layers.added(shot, kind)
            self.assertEqual([s.piece for s in alone.layer(name).settings.sources], ["Box"])
            self.assertEqual([f.title for f in preflight(alone) if f.layer], [])


class Changes(unittest.TestCase):
    def test_a_copy_finds_the_bake_of_what_it_is_a_copy_of(self):
        data = tiny().model_dump(mode="json")
        data["values"] = [{"name": "chips", "value": 55.0, "unit": "1/m2"}]
        data["uses"] = [{"owner": "shed", "path": "chips", "value": "chips"}]
        shot = parse(data)
        keys = layer_keys(shot)
        for name in ("fall", "shed", "billow"):
            more, copy = layers.copied(shot, name)
            self.assertEqual((copy, layer_keys(more)[copy]), (f"{name}-2", keys[name]))
            self.assertEqual([x.id for x in more.layers].index(copy), [x.id for x in shot.layers].index(name) + 1)
        more, _ = layers.copied(shot, "shed")
        self.assertEqual([u.owner for u in more.uses], ["shed", "shed-2"])
        with self.assertRaisesRegex(BadValue, "no layer 'foam'"):
            layers.copied(shot, "foam")

    def test_no_order_of_the_list_changes_a_key(self):
        data = tiny().model_dump(mode="json")
        data["couplings"] = [{"first": "fall", "second": "billow"}, {"first": "shed", "second": "billow"}]
        for shot in (tiny(), parse(data), layers.copied(tiny(), "shed")[0]):
            keys = layer_keys(shot)
            for name in keys:
                for to in range(len(keys)):
                    self.assertEqual(layer_keys(layers.moved(shot, name, to)), keys)

    def test_what_goes_takes_along_what_names_it(self):
        data = tiny().model_dump(mode="json")
        data["couplings"] = [{"first": "fall", "second": "billow"}]
        data["values"] = [{"name": "v", "value": 0.3}]
        data["uses"] = [{"owner": "billow", "path": "swirl", "value": "v"}]
        shot, _ = layers.copied(parse(data), "fall")
        data = shot.model_dump(mode="json")
        data["layers"][2]["start"] = {"of": "fall", "frame": 5}
        shot = parse(data)
        for name in [x.id for x in shot.layers]:
            left = layers.removed(shot, name)
            named = {r for x in left.layers for r in (*x.reads, *([x.start.of] if x.start else []))}
            named |= {n for c in left.couplings for n in (c.first, c.second)} | {u.owner for u in left.uses}
            self.assertNotIn(name, named)
        while shot.layers:
            shot = layers.removed(shot, shot.layers[0].id)

    def test_links_are_made_and_undone_and_bad_ones_say_why(self):
        shot = layers.linked(tiny(), "billow", "fall", False)
        self.assertEqual(shot.layer("billow").reads, ("shed",))
        self.assertEqual(set(layers.linked(shot, "billow", "fall", True).layer("billow").reads), {"fall", "shed"})
        with self.assertRaisesRegex(BadValue, "cannot read a billow layer"):
            layers.linked(shot, "break", "billow", True)
        self.assertEqual([x.id for x in layers.readable(shot, "billow")], ["fall", "shed"])


class Findings(unittest.TestCase):
    def test_numbers_do_not_make_another_finding_but_names_do(self):
        same = [without_numbers(f"'Wall 2' is {a} cm thick at frame {b}.") for a, b in (("3.5", 7), ("1,200", 12))]
        self.assertEqual(same, ["'Wall 2' is # cm thick at frame #."] * 2)

    def test_grave_ones_are_never_accepted(self):
        accepted = (Accepted(finding="Nothing moves.", reason="so it should be"),)
        self.assertEqual(reason(accepted, Finding("Nothing moves.", "")), "so it should be")
        self.assertEqual(reason(accepted, Finding("Nothing moves.", "", grave=True)), "")
        self.assertEqual(reason(accepted, Finding("Nothing moves.", "", layer="fall")), "")


class SideBySide(unittest.TestCase):
    def test_several_of_each_kind_bake_and_the_order_of_the_list_changes_no_byte(self):
        shot = parse(tiny(end=6).model_dump(mode="json"))
        for kind in ("break", "fall", "shed", "billow"):
            shot, _ = layers.added(shot, kind)
        shot, third = layers.copied(shot, "shed")
        shot = layers.linked(shot, "billow", third, True)
        data = shot.model_dump(mode="json")
        by_id = {x["id"]: x for x in data["layers"]}
        by_id[third]["settings"]["seed"] = 9
        for name in ("billow-2", "billow"):
            by_id[name]["settings"]["cell_size"] *= 2
        by_id["break-2"]["settings"]["count"] = 20
        shot = parse(data)
        turned = parse(data | {"layers": data["layers"][::-1]})
        self.assertEqual(layer_keys(shot), layer_keys(turned))
        seen = []
        for order in (shot, turned):
            with tempfile.TemporaryDirectory() as folder:
                store = Store(Path(folder))
                runner.bake(order, store)
                seen.append(
                    {
                        (name, f, n): a.tobytes()
                        for name, key in layer_keys(order).items()
                        if order.kind_of(order.layer(name)).moving
                        for f in (order.start, order.end)
                        for n, a in store.read_frame(key, f)[0].items()
                    }
                )
        self.assertEqual(len({name for name, _, _ in seen[0]}), 7)
        self.assertEqual(seen[0], seen[1])


class Giving(unittest.TestCase):
    def pair(self):
        """Two Billows, the first with another buoyancy by a named value and a curve of temperature."""
        data = layers.copied(tiny(), "billow")[0].model_dump(mode="json")
        data["values"] = [{"name": "load", "value": 2.5}]
        rise = {"over": "frame", "points": [{"at": 1, "value": 0}, {"at": 12, "value": 30}]}
        data["layers"][3]["settings"] |= {
            "scalars": [
                {"name": "density", "clearing": 3.0},
                {"name": "temperature", "measure": "temperature", "rise": rise},
            ],
        }
        data["layers"][4]["settings"] |= {"low": [-2, -2, -0.5], "sources": [{"piece": "Quay"}]}
        data["uses"] = [
            {"owner": "billow", "path": "scalars.0.buoyancy", "value": "load"},
            {"owner": "billow", "path": "scalars.1.rise.points.1.at", "value": "hit"},
        ]
        return parse(data)

    def test_one_setting_goes_to_chosen_layers_with_what_it_takes_its_value_from(self):
        shot = self.pair()
        first, second = shot.layers[3:5]
        found = giving.given(shot, first.id, "scalars.0.buoyancy", [second.id]).layer(second.id).settings
        dust, *rest = second.settings.scalars
        scalars = (dust.model_copy(update={"buoyancy": 2.5}), *rest)
        self.assertEqual(found, second.settings.model_copy(update={"scalars": scalars}))
        curved = giving.given(shot, first.id, "scalars.1.rise", [second.id])
        self.assertEqual(curved.layer(second.id).settings.scalars[1].rise, first.settings.scalars[1].rise)
        uses = [(u.owner, u.path, u.value) for u in curved.uses]
        self.assertIn((second.id, "scalars.1.rise.points.1.at", "hit"), uses)

    def test_a_recipe_leaves_what_a_layer_is_about(self):
        shot = self.pair()
        first, second = shot.layers[3:5]
        found = giving.given(shot, first.id, "", [second.id]).layer(second.id).settings
        own = {n: getattr(second.settings, n) for n in ("low", "high", "sources", "debris_gives")}
        self.assertEqual(found, first.settings.model_copy(update=own))

    def test_pieces_take_a_property_by_name_and_by_tag(self):
        data = tiny().model_dump(mode="json")
        for p in data["pieces"]:
            p["tags"] = ["drums"] if p["shape"]["kind"] == "drum" else []
        shot = parse(data)
        crate = next(p.name for p in shot.pieces if "Crate" in p.name)
        found = giving.given_piece(shot, crate, "material", ["drums", "Quay"])
        timber = shot.piece(crate).material
        changed = {p.name for p, q in zip(found.pieces, shot.pieces) if p != q}
        self.assertEqual(changed, {"Quay", *(p.name for p in shot.pieces if p.tags)})
        self.assertEqual({found.piece(n).material for n in changed}, {timber})

    def test_what_cannot_be_given_is_refused_in_words(self):
        shot = self.pair()
        for sentence, call in (
            ("is a fall layer and cannot take", lambda: giving.given(shot, "billow", "scalars.0.buoyancy", ["fall"])),
            ("tick at least one", lambda: giving.given(shot, "billow", "scalars.0.buoyancy", [])),
            ("no setting that can be given", lambda: giving.given(shot, "billow", "colour", ["billow-2"])),
            ("no set piece and no tag", lambda: giving.given_piece(shot, "Quay", "material", ["Moon"])),
            ("nothing that can be given", lambda: giving.given_piece(shot, "Quay", "shape", ["Wall"])),
        ):
            with self.assertRaisesRegex(BadValue, sentence):
                call()

    def test_another_source_changes_no_other(self):
        shot = self.pair()
        data = shot.model_dump(mode="json")
        data["layers"][4]["settings"]["sources"].append({"piece": "Wall", "rate": 0.2})
        more = parse(data)
        self.assertEqual(more.layers[4].settings.sources[0], shot.layers[4].settings.sources[0])
        before, after = layer_keys(shot), layer_keys(more)
        self.assertEqual({n for n in before if before[n] != after[n]}, {shot.layers[4].id})

    def test_how_a_liquid_looks_bakes_nothing_anew_and_its_surface_looks_the_same(self):
        shot = sluice.shot()
        data = shot.model_dump(mode="json")
        data["layers"][0]["settings"] |= {"colour": "#f4efe4", "sight": 0.01}
        milk = parse(data)
        self.assertEqual(layer_keys(shot), layer_keys(milk))
        look = {x.id: look_of(milk, x) for x in milk.layers}
        self.assertEqual(look["flood"]["colour"], "#f4efe4")
        self.assertEqual(look["skin"]["deep"], look["flood"]["deep"])
        self.assertGreater(min(look["skin"]["clear"]), 100 * max(look_of(shot, shot.layers[1])["clear"]))
        data["layers"][0]["settings"]["density"] = 1030.0
        self.assertNotEqual(layer_keys(shot)["flood"], layer_keys(parse(data))["flood"])


if __name__ == "__main__":
    unittest.main()
