"""No room on a disk: said by machine and folder, room put by for saying so, and no half of a file
is left.
"""

import errno
import os
import socket
import tempfile
from collections import namedtuple
from pathlib import Path
from unittest import TestCase, mock

from dynamikos.cli.starting import DatabaseAway, database_in_words
from dynamikos.cli.writing import write_over
from dynamikos.fleet.disk import MB, Reserve, shortage

Usage = namedtuple("Usage", "total used free")


class Room(TestCase):
    def setUp(self) -> None:
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.others = 0  # what others take of a disk of 100 MB
        usage = mock.patch("shutil.disk_usage", side_effect=self.usage)
        usage.start()
        self.addCleanup(usage.stop)

    def usage(self, folder: Path) -> Usage:
        used = self.others + sum(each.stat().st_size for each in self.folder.iterdir())
        return Usage(100 * MB, used, max(0, 100 * MB - used))

    def test_named_where_there_is_too_little_and_silent_where_there_is_enough(self) -> None:
        self.assertEqual(shortage(self.folder, 100 * MB), "")
        self.others = 95 * MB
        said = f"the disk of {socket.gethostname()} is full: 5 of 20 MB free in {self.folder}"
        self.assertEqual(shortage(self.folder, 20 * MB), said)
        with mock.patch("shutil.disk_usage", side_effect=FileNotFoundError):
            self.assertEqual(shortage(self.folder, 20 * MB), "")

    def test_what_is_put_by_is_spent_once_and_put_by_again_when_there_is_room(self) -> None:
        reserve = Reserve(self.folder, 10 * MB, 20 * MB)
        self.assertIn("is full", Reserve(self.folder, 60 * MB, 50 * MB).shortage())
        reserve.put_by()
        self.assertEqual((self.folder / "reserve").stat().st_size, 10 * MB)
        self.assertEqual(reserve.shortage(), "")
        self.others = 75 * MB
        self.assertIn("15 of 20 MB free", reserve.shortage())
        self.assertFalse((self.folder / "reserve").exists())
        self.assertIn(
            "25 of 30 MB free", reserve.shortage()
        )  # the room that it gave is for the end of runs
        reserve.put_by()
        self.assertFalse((self.folder / "reserve").exists())
        self.others = 20 * MB
        reserve.put_by()
        self.assertTrue((self.folder / "reserve").exists())
        self.assertEqual(reserve.shortage(), "")


class Whole(TestCase):
    def test_a_file_that_did_not_fit_is_as_it_was(self) -> None:
        file = Path(self.enterContext(tempfile.TemporaryDirectory())) / "told.json"
        write_over(file, b"first")
        real = Path.write_bytes

        def half(path: Path, content: bytes) -> int:
            real(path, content[: len(content) // 2])
            raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC), str(path))

        with mock.patch.object(Path, "write_bytes", half), self.assertRaises(OSError) as raised:
            write_over(file, b"the second one")
        self.assertIn(str(file), str(raised.exception))
        self.assertEqual(file.read_bytes(), b"first")
        self.assertEqual(list(file.parent.iterdir()), [file])

    def test_what_is_no_file_is_written_to(self) -> None:
        with self.assertRaises(OSError) as raised:
            write_over(Path("/dev/full"), b"x")
        self.assertEqual(raised.exception.errno, errno.ENOSPC)
        self.assertTrue(Path("/dev/full").is_char_device())


class InWords(TestCase):
    def test_a_database_that_is_away_is_said_without_a_traceback(self) -> None:
        import psycopg

        with self.assertRaises(DatabaseAway) as raised, database_in_words():
            psycopg.connect(host="127.0.0.1", port=1, connect_timeout=2)
        self.assertIn("the database can't be reached", str(raised.exception))
        self.assertIn("log/pg.log", str(raised.exception))
        with self.assertRaises(ValueError), database_in_words():
            raise ValueError
        with self.assertRaises(psycopg.OperationalError), database_in_words():
            raise psycopg.errors.ObjectInUse(
                "it has pending trigger events"
            )  # an error of ours, not the database's
