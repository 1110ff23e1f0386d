"""The protocol between both machines: what it carries, and what comes of it when the other side is hostile."""

import ast
import os
import socket
import struct
import sys
import tempfile
import threading
import unittest
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path, PurePosixPath
from typing import Any
from unittest import mock

from hypothesis import given, settings
from hypothesis import strategies as st

from nostos.core.errors import HostError, LockHeld, NostosError, SiteError
from nostos.core.files.entry import FileEntry
from nostos.core.files.remote.tree import FarTree
from nostos.core.files.tree import SkippedFile
from nostos.core.hosts import connection, helper
from nostos.core.hosts.connection import Connection, NearWire
from nostos.core.hosts.far_path import FarPath, written
from nostos.core.values import packed

VALUES = st.recursive(
    st.none() | st.booleans() | st.integers(-(1 << 63), (1 << 64) - 1) | st.floats(allow_nan=False) | st.text()
    | st.binary() | st.binary().map(lambda b: b.decode("utf-8", "surrogateescape")),
    lambda inner: st.lists(inner, max_size=20), max_leaves=40)


class Pair:
    """Both ends of a wire, in one process. answer: what the far end does with a call."""

    def __init__(self, answer: Callable[[helper.Channel, list[Any]], None]) -> None:
        self.near_socket, self.far_socket = socket.socketpair()
        files = [(s.makefile("rb"), s.makefile("wb")) for s in (self.near_socket, self.far_socket)]
        self.near, self.far = NearWire(*files[0]), helper.Wire(*files[1], answer)
        self.threads = [threading.Thread(target=w.run, daemon=True) for w in (self.near, self.far)]
        for thread in self.threads:
            thread.start()

    def close(self) -> None:
        for s in (self.near_socket, self.far_socket):
            with suppress(OSError):
                s.shutdown(socket.SHUT_RDWR)
        for thread in self.threads:
            thread.join(5)


class WireTest(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(tempfile.mkdtemp(prefix="nostos-test-"))

    def pair(self, answer: Callable[[helper.Channel, list[Any]], None]) -> Pair:
        made = Pair(answer)
        self.addCleanup(made.close)
        return made

    def tree(self, answer: Callable[[helper.Channel, list[Any]], None]) -> FarTree:
        """A tree whose helper answers so."""
        connection = Connection.__new__(Connection)
        connection.host, connection.wire, connection.locks = "far", self.pair(answer).near, 0
        self.enterContext(mock.patch("nostos.core.files.remote.asking.reach", lambda _: connection))
        return FarTree(FarPath("far", PurePosixPath(self.folder)))


class Carried(WireTest):
    @given(VALUES)
    def test_both_packers_agree(self, value: Any) -> None:
        self.assertEqual(packed.pack(value), helper.pack(value))
        self.assertEqual(helper.unpack(packed.pack(value)), packed.unpack(helper.pack(value)))

    def test_a_slow_reader_holds_up_nobody(self) -> None:
        def answer(channel: helper.Channel, words: list[Any]) -> None:
            for _ in range(words[0]):
                channel.send(b"x" * 50_000)
            channel.finish(words[0])

        pair = self.pair(answer)
        slow = pair.near.call(200)
        self.assertEqual(len(slow.receive()), 50_000)
        self.assertEqual(pair.near.call(3).answer(), 3)
        self.assertLess(slow.waiting, helper.WINDOW + helper.FRAME)
        self.assertEqual(slow.answer(), 200)

    def test_a_large_value_and_one_that_is_not_wanted(self) -> None:
        ended = threading.Event()

        def answer(channel: helper.Channel, words: list[Any]) -> None:
            try:
                while True:
                    channel.send(words[0])
            except helper.Cancelled:
                ended.set()
                raise

        channel = self.pair(answer).near.call(b"y" * 3_000_000)
        self.assertEqual(len(channel.receive()), 3_000_000)
        channel.cancel()
        self.assertTrue(ended.wait(10))

    def test_the_helper_is_python_of_any_age(self) -> None:
        ast.parse(Path(helper.__file__).read_text(), feature_version=(3, 6))
        imported = {n.name for node in ast.walk(ast.parse(Path(helper.__file__).read_text()))
                    if isinstance(node, ast.Import) for n in node.names}
        self.assertLessEqual(imported, sys.stdlib_module_names)


class Hostile(WireTest):
    @settings(max_examples=60, deadline=None)
    @given(st.lists(st.tuples(st.integers(0, 3), st.integers(0, 12), st.binary(max_size=60)) | st.binary(max_size=40),
                    max_size=12))
    def test_what_does_not_parse_ends_the_connection(self, frames: list[Any]) -> None:
        """Either end, given anything, answers, refuses or ends; it never hangs and never dies of something else."""
        before = sorted(os.listdir(self.folder))
        noise = b"".join(f if isinstance(f, bytes) else struct.pack(">IBI", f[0], f[1], len(f[2])) + f[2]
                         for f in frames)
        for near in (False, True):
            mine, other = socket.socketpair()
            wire = (NearWire if near else helper.Wire)(other.makefile("rb"), other.makefile("wb"),
                                                       None if near else helper.Answers())
            channel = wire.call("tree", str(self.folder), [], "status", "a") if near else None
            mine.sendall(noise)
            mine.shutdown(socket.SHUT_WR)
            wire.run()
            self.assertTrue(wire.broken)
            if channel is not None:
                with self.assertRaises((helper.WireError, helper.Failed, EOFError)):
                    while True:
                        channel.receive()
            mine.close()
            other.close()
        self.assertEqual(before, sorted(os.listdir(self.folder)))

    def test_more_than_was_asked_for_ends_it(self) -> None:
        mine, other = socket.socketpair()
        wire = NearWire(other.makefile("rb"), other.makefile("wb"))
        channel = wire.call("read")
        reading = threading.Thread(target=wire.run, daemon=True)
        reading.start()
        frame = struct.pack(">IBI", channel.number, helper.PART, helper.FRAME) + b"z" * helper.FRAME
        mine.settimeout(0.5)
        with suppress(OSError):
            for _ in range(100):
                mine.sendall(frame)
        reading.join(10)
        self.assertEqual(wire.broken, "more came than was to come")
        mine.close()
        other.close()

    def test_paths_from_there_are_checked_here(self) -> None:
        bad = ["../out", "/etc/passwd", "a/../../b", "a//b", "a\0b"]
        for path in bad:
            with self.subTest(path):
                tree = self.tree(lambda c, w, p=path: c.send([[p, "file", 1, 0o644, 1, 1, None]]))
                with self.assertRaises(SiteError):
                    list(tree.scan((), ()))
                tree = self.tree(lambda c, w, p=path: c.finish([p]))
                with self.assertRaises(HostError):
                    tree.names("")
        for said in (None, "x", [], ["file"], ["file", *["1"] * 8]):
            with self.subTest(said), self.assertRaises(NostosError):
                self.tree(lambda c, w, s=said: c.finish(s or 5)).status("a")

    def test_what_a_host_sends_is_bounded(self) -> None:
        """By what was announced, and by what a message may be made of; nothing in it reaches a terminal as it is."""
        lists = b"\xdd" + struct.pack(">I", 3 << 20) + b"\x90" * (3 << 20)
        with mock.patch.object(helper.Wire, "pack", staticmethod(lambda v: lists if v == "many" else helper.pack(v))), \
                self.assertRaises(HostError) as caught:
            self.tree(lambda c, w: c.finish("many" if w[0] == "tree" else 1)).status("a")
        self.assertIn("cannot be read", caught.exception.what)
        for led in ("/etc/passwd", "../../private", "a\0b"):
            passed: list[SkippedFile] = []
            tree = self.tree(lambda c, w, to=led: (c.send([["in/link", "link", 0, 0o777, 1, 1, to]]), c.finish(None)))
            self.assertEqual((list(tree.scan((), (), passed.append)), [p.path for p in passed]), ([], ["in/link"]))
            tree = self.tree(lambda c, w, to=led: c.send([["link", 0o777, 0, 1, 1, 1, 0, 0, 1], [0, 0, []], to]))
            with self.assertRaises(HostError):
                list(tree.given_out([FileEntry("in/link", "link", 0, 0o777, (1, 1))]))

        def grows(channel: helper.Channel, words: list[Any]) -> None:
            channel.send([["file", 0o644, 3, 1, 1, 1, 0, 0, 1], [0, 0, []], ""])
            while True:
                channel.send(b"x" * helper.FRAME)

        with mock.patch("nostos.core.files.remote.bulk._GROWN", 1 << 20), self.assertRaises(HostError):
            for given in self.tree(grows).given_out([FileEntry("log", "file", 3, 0o644, (1, 1))]):
                self.assertLess(sum(map(len, given.pieces)), 1 << 21)

        with self.assertRaises(LockHeld) as held:
            self.tree(lambda c, w: c.wire.frame(c.number, helper.ERROR, memoryview(helper.pack(
                ["held", "\x1b[2Jroot"])))).status("a")
        self.assertNotIn("\x1b", str(held.exception))

    def test_a_host_that_says_nothing(self) -> None:
        silent = self.folder / "silent"
        silent.write_text("#!/bin/sh\nexec sleep 60\n")
        silent.chmod(0o755)
        with mock.patch.dict(os.environ, {"NOSTOS_SSH": str(silent)}), mock.patch(
                "nostos.core.hosts.ssh.ANSWERS", 0.5), self.assertRaises(HostError) as caught:
            Connection("quiet.example")
        self.assertIn("quiet.example lets this user in, or does not refuse, and then says", caught.exception.what)

    def test_a_host_that_only_says_that_it_is_there(self) -> None:
        mine, other = socket.socketpair()
        wire = NearWire(other.makefile("rb"), other.makefile("wb"))
        threading.Thread(target=wire.run, daemon=True).start()
        done = threading.Event()

        def pings() -> None:
            with suppress(OSError):
                for _ in range(100):  # without patience it ends, too, and says something else
                    if done.wait(0.05):
                        return
                    mine.sendall(struct.pack(">IBI", 0, helper.PING, 0))
                mine.shutdown(socket.SHUT_RDWR)

        threading.Thread(target=pings, daemon=True).start()
        there = object.__new__(Connection)
        there.host, there.wire = "far.example", wire
        with mock.patch.object(connection, "PATIENCE", 0.5), self.assertRaises(HostError) as caught:
            there.ask("tree", ["/", []], "status", "a")
        done.set()
        self.assertIn("it says that it is there, and does not answer", caught.exception.what)
        mine.close()
        other.close()

    def test_the_helper_stays_in_the_folder(self) -> None:
        inside = self.folder / "site"
        inside.mkdir()
        (self.folder / "secret").write_text("s")
        (inside / "out").symlink_to(self.folder)
        tree = self.tree(helper.Answers())
        tree.root = FarPath("far", PurePosixPath(inside))
        with mock.patch("nostos.core.files.remote.asking.checked", lambda p: [p]):  # as if this side were hostile
            for path in ("../secret", str(self.folder / "secret"), "out/secret", "a/../../secret"):
                with self.subTest(path):
                    for act in (tree.read, tree.remove, tree.digest, lambda p: tree.write(p, b"", 0o600)):
                        with self.assertRaises(SiteError):
                            act(path)
        self.assertEqual((self.folder / "secret").read_text(), "s")

    def test_addresses(self) -> None:
        for text in ("-oProxyCommand=x:/a", "a b:/c", "$(x):/c", "/a:b/c", "./a:b", "a;b:/c"):
            self.assertIsInstance(written(text), Path, text)
        self.assertEqual(str(written("me@far:/srv/a b")), "me@far:/srv/a b")
