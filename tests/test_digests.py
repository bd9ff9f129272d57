"""Results are what they were, or the version says that they are not."""

import copy
import json
import unittest

from tests import digests
from urst.kinds.registry import KINDS


class Digests(unittest.TestCase):
    def setUp(self):
        self.kept = json.loads(digests.KEPT.read_text())

    def test_what_kinds_give_changes_only_with_their_version(self):
        versions = {k.name: k.version for k in KINDS.values()}
        wrong = digests.complaints(self.kept, digests.all_taken(), versions, digests.processor())
        self.assertEqual(wrong, [])

    def test_a_changed_result_is_told_with_the_way_out(self):
        versions, found = self.kept["versions"], copy.deepcopy(self.kept["digests"])
        here = self.kept["processor"]
        self.assertEqual(digests.complaints(self.kept, found, versions, here), [])
        found["fall"]["fall"]["digest"] = "0"
        (told,) = digests.complaints(self.kept, found, versions, here)
        self.assertRegex(told, "^fall .* raise its version")
        raised = versions | {"skin": versions["skin"] + 1}
        told = digests.complaints(self.kept, found, raised, here)
        self.assertIn("skin (skin): its version or one that it reads was raised", told[-1])

    def test_another_processor_is_held_to_a_tolerance(self):
        versions, found = self.kept["versions"], copy.deepcopy(self.kept["digests"])
        found["fall"]["fall"]["digest"] = "0"
        self.assertEqual(digests.complaints(self.kept, found, versions, "another"), [])
        summary = found["fall"]["fall"]["summary"]
        summary["position"][0] += 0.05 * summary["position"][1]
        (told,) = digests.complaints(self.kept, found, versions, "another")
        self.assertRegex(told, "beyond another processor's rounding in position")


if __name__ == "__main__":
    unittest.main()
