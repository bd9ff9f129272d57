"""Every solver goes on from its state at any frame to the same bytes, on one thread and on two; a damaged state is
refused."""

import tempfile
import unittest

import numba
import numpy as np

from tests.baked import copied
from urst.bake.work import Work
from urst.core.checkpoint import Checkpointed
from urst.errors import CacheDamaged
from urst.kinds.rehearsal import rehearsals
from urst.shot.document import parse
from urst.shot.keys import layer_keys
from urst.shot.plan import plan

#: frames that are gone on from, in an order that nothing but the state could serve
FRAMES = (7, 2, 11, 5)


class Contract(unittest.TestCase):
    """For each rehearsal, the last step of its plan: one solver, or several that act on each other."""

    def each(self):
        for name, rehearsal in rehearsals().items():
            shot = parse(rehearsal.document)
            step = plan(shot)[-1]
            if all(shot.kind_of(shot.layer(x)).moving for x in step.layers):
                yield name, shot, step

    def work(self, shot, step, store):
        return Work(shot, store, step.layers, layer_keys(shot), lambda: None)

    def same(self, first, second):
        for layer, (arrays, gauges) in first.items():
            other, measured = second[layer]
            self.assertEqual(arrays.keys(), other.keys())
            for name, a in arrays.items():
                self.assertEqual(np.asarray(a).tobytes(), np.asarray(other[name]).tobytes(), f"{layer} {name}")
            self.assertEqual(gauges, measured)

    def test_it_goes_on_from_any_frame_and_with_one_thread_to_the_same_bytes(self):
        for name, shot, step in self.each():
            with self.subTest(name), tempfile.TemporaryDirectory() as folder:
                store = copied(shot, folder, [x for s in plan(shot)[:-1] for x in s.layers])
                whole = self.work(shot, step, store)
                results, states = {shot.start: whole.first()}, {shot.start: whole.snapshot()}
                for frame in range(shot.start + 1, shot.end + 1):
                    results[frame] = whole.next(frame)
                    states[frame] = whole.snapshot()
                again = self.work(shot, step, store)
                for n, frame in enumerate(FRAMES):
                    numba.set_num_threads(1 + n % min(2, numba.config.NUMBA_NUM_THREADS))
                    again.restore(frame, states[frame])
                    self.same(results[frame + 1], again.next(frame + 1))

    def test_a_damaged_state_is_refused_in_a_sentence(self):
        for name, shot, step in self.each():
            with self.subTest(name), tempfile.TemporaryDirectory() as folder:
                store = copied(shot, folder, [x for s in plan(shot)[:-1] for x in s.layers])
                work = self.work(shot, step, store)
                work.first()
                state = work.snapshot()
                some = next(k for k in state if k.endswith("/time"))
                less = {k: v for k, v in state.items() if k != some}
                with self.assertRaisesRegex(CacheDamaged, "lacks 'time'.*bake again"):
                    work.restore(shot.start, less)
                with self.assertRaisesRegex(CacheDamaged, "holds 'time' as float32"):
                    work.restore(shot.start, state | {some: state[some].astype(np.float32)})


class Thing(Checkpointed):
    """Something with a state of every sort."""

    STATE = ("array", "number", "count", "flag", "pair", "several", "part", "absent", "inner.array")

    def __init__(self, inner=None):
        self.array, self.number, self.count, self.flag, self.pair = np.arange(3.0), 1.5, 2, True, (3, 4)
        self.several, self.part, self.absent = [np.zeros(2), np.ones(1)], inner or Part(), None
        self.inner = Part()


class Part(Checkpointed):
    STATE = ("array",)

    def __init__(self):
        self.array = np.zeros(2)


class Sorts(unittest.TestCase):
    def test_what_was_saved_is_taken_up_with_its_type(self):
        one, other = Thing(), Thing()
        one.array, one.number, one.count, one.flag, one.pair = np.arange(5.0), -2.0, 7, False, (8, 9)
        one.several, one.absent = [np.full(2, 3.0), np.full(1, 4.0)], np.arange(2)
        one.part.array[:], one.inner.array[:] = 5.0, 6.0
        held = other.inner.array
        other.restore(one.snapshot())
        np.testing.assert_array_equal(other.array, np.arange(5.0))
        self.assertEqual((other.number, other.count, other.flag, other.pair), (-2.0, 7, False, (8, 9)))
        self.assertIs(type(other.count), int)
        np.testing.assert_array_equal(np.concatenate(other.several), [3, 3, 4])
        np.testing.assert_array_equal(other.absent, [0, 1])
        np.testing.assert_array_equal(other.part.array, [5, 5])
        # what others hold as well is written in place
        self.assertIs(other.inner.array, held)
        np.testing.assert_array_equal(held, [6, 6])
        one.absent = None
        other.restore(one.snapshot())
        self.assertIsNone(other.absent)

    def test_a_state_is_a_copy(self):
        one = Thing()
        state = one.snapshot()
        one.array[:], one.part.array[:] = 9.0, 9.0
        np.testing.assert_array_equal(state["array"], np.arange(3.0))
        np.testing.assert_array_equal(state["part/array"], [0, 0])

    def test_another_shape_is_refused_where_others_hold_the_array(self):
        state = Thing().snapshot()
        state["inner.array"] = np.zeros(3)
        with self.assertRaisesRegex(CacheDamaged, r"holds 'inner.array' as \(3,\), and \(2,\) is needed"):
            Thing().restore(state)


if __name__ == "__main__":
    unittest.main()
