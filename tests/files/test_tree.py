"""File trees: what is taken, what is left out, and what never leaves its root."""

from nostos.core.errors import SiteError
from nostos.core.files.entry import inside
from nostos.core.files.tree import SkippedFile
from nostos.core.files.trees import tree_at
from nostos.core.patterns import matches
from tests.support import SiteTest


class Tree(SiteTest):
    def test_nothing_leaves_the_root(self) -> None:
        root = self.folder / "root"
        (root / "in").mkdir(parents=True)
        (root / "out").symlink_to(self.folder)
        self.assertEqual(inside(root, "in/new/file"), root / "in/new/file")
        for path in ("/etc/passwd", "../x", "in/../../x", "in//x", "", ".", "out/x", "in/\0"):
            with self.subTest(path), self.assertRaises(SiteError):
                inside(root, path)

    def test_patterns(self) -> None:
        for path, pattern, expected in (
                ("cache/a/b", "cache/**", True), ("cache", "cache/**", False), ("cached/a", "cache/**", False),
                ("a/x.log", "*.log", True), ("a/b", "a", True), ("a/b", "b", False), ("a/b/c", "a/*/c", True)):
            self.assertEqual(matches(path, [pattern]), expected, (path, pattern))

    def test_what_is_told_and_what_is_not(self) -> None:
        for name in ("b/file", "a", "skip/x", ".nostos-1", "site.db", "b/.nostos-2/y"):
            path = self.folder / name
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_text("x")
        (self.folder / "b/link").symlink_to("file")
        (self.folder / "b/absolute").symlink_to(self.folder / "a")
        passed: list[SkippedFile] = []
        found = tree_at(self.folder).scan(["site.db"], ["skip/**"], passed.append)
        self.assertEqual([(e.path, e.kind) for e in found], [("a", "file"), ("b/file", "file"), ("b/link", "link")])
        self.assertEqual([p.path for p in passed], ["b/absolute"])
