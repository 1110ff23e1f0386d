"""A merge of the real PHP system rehearsed: the copy is served by PHP's own server under live's address."""

import unittest

from nostos.around.rehearsal.rehearse import Rehearsal, RehearsalOptions, check_same, rehearse
from nostos.around.rehearsal.serving import command_of
from nostos.core.anchor.open_voyage import opened
from nostos.core.apply.merge import merge
from nostos.core.plan.prepared import prepare
from nostos.core.plan.selection import Choice
from tests.real.servers import mariadb, missing
from tests.real.test_system import SystemTest
from tests.support import tree


@unittest.skipIf(missing(), missing())
class RealRehearsal(SystemTest):
    def rehearse(self) -> Rehearsal:
        with opened(self.home, self.home.read("autumn")) as crew:
            _, found = rehearse(self.home, crew, Choice(), RehearsalOptions(command_of(crew.live), 60, 200))
        assert found is not None
        return found

    def rows(self) -> object:
        name = self.ask(self.live, "echo json_encode(DB_NAME);")
        tables = [t for (t,) in mariadb().run(
            "SELECT table_name FROM information_schema.tables WHERE table_schema = %s ORDER BY 1", name)]
        return {t: mariadb().run(f"SELECT * FROM `{t}`", database=name) for t in tables}

    def test_what_visitors_would_see(self) -> None:
        self.ask(self.live, "update_option('permalink_structure', '/%postname%/'); flush_rewrite_rules();")
        staging = self.clone()
        self.ask(staging, """$id = get_page_by_path('programme')->ID;
            wp_update_post(['ID' => $id, 'post_content' => '<p>One, and more</p>']);
            entry('Autumn', page('Autumn', ['post_content' => 'Evenings, at ' . home_url('/programme/')]));""")
        self.ask(self.live, "wp_insert_comment(['comment_post_ID' => 1, 'comment_content' => 'Lovely']);")
        self.live.serve(self)
        self.rehearse()  # visitors, these ones too, make the system write down things of its own once
        databases = mariadb().run("SHOW DATABASES")
        rows, files = self.rows(), tree(self.live.folder)
        found = self.rehearse()
        self.assertEqual((self.rows(), tree(self.live.folder)), (rows, files))
        self.assertEqual(mariadb().run("SHOW DATABASES"), databases)
        self.assertEqual([p.name for p in self.folder.glob(".nostos-*")], [])
        said = {p.path: (str(p.verdict), p.item) for p in found.pages}
        self.assertEqual(said["/programme/"], ("expected", "page/programme"), said)
        self.assertEqual(said["/autumn/"], ("new", "page/autumn"), said)
        self.assertEqual([p for p in found.pages if str(p.verdict) == "broke"], [])
        self.assertTrue(found.holds and found.visited)
        with opened(self.home, self.home.read("autumn")) as crew:
            prepared = prepare(crew, Choice())
            check_same(found, prepared)
            merge(self.home, crew, prepared)
        self.assertIn("Evenings, at " + self.live.url + "/programme/", self.live.get("/autumn/"))
        # An extension that breaks every page, tried on staging by nobody: here it is found out.
        plugin = staging.folder / "wp-content" / "plugins" / "broken" / "broken.php"
        plugin.parent.mkdir()
        plugin.write_text("<?php\n/* Plugin Name: Broken\n * Version: 1 */\n"
                          "add_action('wp_footer', function () { nowhere(); });\n")
        self.ask(staging, "update_option('active_plugins', ['broken/broken.php']);")
        again = self.rehearse()
        self.assertTrue(again.broke)
        self.assertNotIn("nowhere", self.live.get("/"))


if __name__ == "__main__":
    unittest.main()
