import tempfile
import unittest
from pathlib import Path
from typing import NamedTuple

import numpy as np

from sivrel.cluster.cluster import check_address
from sivrel.cluster.content import Taker, arrays_in, digest_of, put_together
from sivrel.cluster.content_folder import ContentFolder, Missing
from sivrel.core.errors import InputError


class Pair(NamedTuple):
    name: str
    column: np.ndarray


class Content(unittest.TestCase):
    def test_large_arrays_travel_once_by_their_hash(self):
        big, small = np.arange(20_000, dtype=np.float64), np.arange(10)
        taker = Taker()
        content = taker.take_apart((Pair("a", big), Pair("b", big.copy()), Pair("c", big.view(np.uint8)), small))
        self.assertEqual(len(content.blobs), 1)
        self.assertLess(len(content.skeleton), 2000)
        self.assertEqual(arrays_in(content.skeleton), set(content.blobs))

        def array(digest, kind, shape):
            return np.frombuffer(content.blobs[digest], kind).reshape(shape)

        a, b, c, same = put_together(content.skeleton, array)
        np.testing.assert_array_equal(a.column, big)
        np.testing.assert_array_equal(b.column, big)
        np.testing.assert_array_equal(c.column, big.view(np.uint8))
        np.testing.assert_array_equal(same, small)
        self.assertEqual(taker.take_apart((Pair("a", big),)).digest, Taker().take_apart((Pair("a", big.copy()),)).digest)

    def test_addresses(self):
        for good in ("tcp://127.0.0.1:8786", "localhost:8786", "tls://render1:8786"):
            check_address(good)
        bad = {"tcp://render1:8786": "tls", "render1:8786": "tls", "8786": "no address", "http://a:1": "no address", "tcp://a:x": "no address"}
        for address, why in bad.items():
            with self.assertRaisesRegex(InputError, why):
                check_address(address)


class Folder(unittest.TestCase):
    def setUp(self):
        made = tempfile.TemporaryDirectory()
        self.addCleanup(made.cleanup)
        self.path = Path(made.name)

    def test_parts_become_arrays_that_outlast_the_program(self):
        data = np.random.default_rng(1).random((100, 30))
        digest, raw = digest_of(data.tobytes()), data.tobytes()
        folder = ContentFolder(self.path)
        self.assertEqual(folder.missing([digest]), [digest])
        folder.add(digest, raw[:1000], False)
        self.assertEqual(folder.missing([digest]), [digest])
        folder.add(digest, raw[1000:], True)
        again = ContentFolder(self.path)
        found = again.array(digest, "<f8", (100, 30))
        np.testing.assert_array_equal(found, data)
        self.assertIs(type(found), np.ndarray)
        self.assertTrue(found.flags.writeable)

    def test_what_was_used_least_recently_makes_room(self):
        folder = ContentFolder(self.path, most_bytes=2500)
        names = []
        for k in range(3):
            raw = bytes([k]) * 1000
            names.append(digest_of(raw))
            folder.add(names[-1], raw, True)
            if k == 1:
                folder.array(names[0], "|u1", (1000,))
        self.assertEqual(folder.missing(names), [names[1]])
        with self.assertRaises(Missing) as caught:
            folder.array(names[1], "|u1", (1000,))
        self.assertEqual(caught.exception.digests, [names[1]])

    def test_what_was_altered_on_its_way_is_refused(self):
        folder = ContentFolder(self.path)
        with self.assertRaisesRegex(ValueError, "not what was sent"):
            folder.add(digest_of(b"one"), b"other", True)
        self.assertEqual(list(self.path.iterdir()), [])
        (self.path / ".left").write_bytes(b"of a program that was killed")
        ContentFolder(self.path)
        self.assertEqual(list(self.path.iterdir()), [])


if __name__ == "__main__":
    unittest.main()
