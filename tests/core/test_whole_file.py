"""Files are written whole or not at all, by however many writers."""

import tempfile
import threading
import unittest
from pathlib import Path

from sivrel.core.whole_file import whole_file


class WholeFiles(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.path = Path(folder.name) / "picture.exr"

    def left(self) -> list[str]:
        return sorted(path.name for path in self.path.parent.iterdir())

    def test_nothing_is_there_until_the_end(self):
        with whole_file(self.path) as beside:
            beside.write_text("new")
            self.assertFalse(self.path.exists())
        self.assertEqual(self.path.read_text(), "new")
        self.assertEqual(self.left(), ["picture.exr"])

    def test_a_failure_keeps_what_was_there(self):
        self.path.write_text("old")
        with self.assertRaises(ValueError), whole_file(self.path) as beside:
            beside.write_text("half")
            raise ValueError
        self.assertEqual((self.path.read_text(), self.left()), ("old", ["picture.exr"]))

    def test_many_writers_of_one_file_do_not_disturb_each_other(self):
        together, failed = threading.Barrier(8), []

        def write(number: int) -> None:
            try:
                with whole_file(self.path) as beside:
                    beside.write_text(f"{number}" * 1000)
                    together.wait()
            except Exception as error:
                failed.append(error)

        writers = [threading.Thread(target=write, args=(number,)) for number in range(8)]
        for one in writers:
            one.start()
        for one in writers:
            one.join()
        self.assertEqual(failed, [])
        self.assertEqual(len(set(self.path.read_text())), 1)
        self.assertEqual(self.left(), ["picture.exr"])
