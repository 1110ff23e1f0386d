"""Small numbers that collide, on the real PHP system: a shop that no profile names, whose update brings 60 rows.

Whoever does nothing in staging but what the system's own screens offer is asked nothing, and nothing is left behind.
"""

from __future__ import annotations

import json
import unittest
from collections import Counter
from pathlib import Path
from typing import Any

from nostos.core.anchor.open_voyage import opened
from nostos.core.plan.prepared import compare_voyage, prepare
from nostos.core.sites.recognise import recognise
from tests.real.servers import PhpSite, mariadb, missing
from tests.real.test_system import SystemTest

TABLES = """
CREATE TABLE kr_counter_orders (id bigint unsigned AUTO_INCREMENT PRIMARY KEY, number varchar(20), total decimal(10,2),
  currency char(3), email varchar(100), customer_id bigint unsigned DEFAULT 0, created_at datetime);
CREATE TABLE kr_counter_lines (id bigint unsigned AUTO_INCREMENT PRIMARY KEY, order_id bigint unsigned NOT NULL DEFAULT 0,
  post_id bigint unsigned NOT NULL DEFAULT 0, quantity int NOT NULL DEFAULT 1, KEY order_id (order_id));
CREATE TABLE kr_counter_receipts (id bigint unsigned AUTO_INCREMENT PRIMARY KEY,
  order_id bigint unsigned NOT NULL DEFAULT 0, body text, KEY order_id (order_id));
CREATE TABLE kr_counter_addresses (id bigint unsigned AUTO_INCREMENT PRIMARY KEY, order_id bigint unsigned NOT NULL,
  name varchar(80), city varchar(80), KEY order_id (order_id))
"""  # noqa: E501
SELL = """
function sell($page, $who) { global $wpdb; $p = $wpdb->prefix;
  $wpdb->insert("{$p}counter_orders", ['number' => 'C-' . (1 + $wpdb->get_var("SELECT count(*) FROM {$p}counter_orders")),
    'total' => 9, 'currency' => 'EUR', 'email' => "$who@visitor.example", 'created_at' => '2026-01-01 10:00:00']);
  $order = $wpdb->insert_id;
  $wpdb->insert("{$p}counter_lines", ['order_id' => $order, 'post_id' => $page, 'quantity' => 1]);
  $wpdb->insert("{$p}counter_receipts", ['order_id' => $order, 'body' => "Thank you, $who"]);
  $wpdb->insert("{$p}counter_addresses", ['order_id' => $order, 'name' => $who, 'city' => 'Kestrel Ridge']); }
"""  # noqa: E501
UPDATE = """
global $wpdb; $wpdb->query("CREATE TABLE kr_counter_slots (id bigint unsigned AUTO_INCREMENT PRIMARY KEY, label varchar(40),
  position int NOT NULL DEFAULT 0)");
for ($i = 1; $i <= 60; $i++) $wpdb->insert('kr_counter_slots', ['label' => "Slot $i", 'position' => $i % 7]);
"""  # noqa: E501
# What the system's own screens write: settings, widgets, menus, pages, notes, terms, pictures.
SCREENS = """
foreach (['blogname' => 'Ridge', 'posts_per_page' => 12, 'posts_per_rss' => 11, 'comments_per_page' => 20,
  'close_comments_days_old' => 15, 'thread_comments_depth' => 4, 'large_size_w' => 51, 'large_size_h' => 50,
  'medium_size_w' => 30, 'medium_size_h' => 31, 'thumbnail_size_w' => 15, 'thumbnail_size_h' => 16, 'start_of_week' => 3,
  'default_pingback_flag' => 1, 'comment_max_links' => 5, 'page_comments' => 1, 'gmt_offset' => 2, 'blog_public' => 1,
  'uploads_use_yearmonth_folders' => 1, 'show_avatars' => 1, 'rss_use_excerpt' => 1, 'mailserver_port' => 25] as $k => $v)
  update_option($k, $v);
update_option('widget_text', [2 => ['title' => 'Hours', 'text' => 'Open at 8', 'filter' => 1], 3 => ['title' => 'Way',
  'text' => 'Up the hill'], '_multiwidget' => 1]);
update_option('widget_recent-posts', [2 => ['title' => 'News', 'number' => 5, 'show_date' => 1], '_multiwidget' => 1]);
update_option('widget_tag_cloud', [4 => ['title' => 'Words', 'count' => 1, 'taxonomy' => 'post_tag'], '_multiwidget' => 1]);
update_option('sidebars_widgets', ['wp_inactive_widgets' => [], 'sidebar-1' => ['text-2', 'text-3', 'recent-posts-2',
  'tag_cloud-4'], 'array_version' => 3]);
for ($i = 1; $i <= 12; $i++) {
  $id = wp_insert_post(['post_type' => $i % 3 ? 'post' : 'page', 'post_status' => 'publish', 'post_title' => "New $i",
    'menu_order' => $i, 'comment_status' => 'open', 'post_content' =>
      "<!-- wp:heading {\\"level\\":3} --><h3>New $i</h3><!-- /wp:heading --><!-- wp:columns {\\"columns\\":2} -->" .
      "<div class=\\"wp-block-columns has-2-columns\\">8 people, 20 chairs</div><!-- /wp:columns -->" .
      "<table><tr><td colspan=\\"2\\" width=\\"50\\">10</td></tr></table><ol start=\\"3\\"><li>x</li></ol>"]);
  update_post_meta($id, '_edit_last', 1); update_post_meta($id, '_edit_lock', '1767225600:1');
  update_post_meta($id, '_pingme', '1'); update_post_meta($id, '_encloseme', '1');
  wp_set_post_terms($id, ["word $i"], 'post_tag'); if ($i % 4 == 0) set_post_thumbnail($id, picture("new$i", $i)); }
entry('New', $id); update_option('page_on_front', $id); update_option('show_on_front', 'page');
stick_post($id); wp_update_post(['ID' => $id, 'post_content' => 'Edited at 9, by 3']);
"""  # noqa: E501


def code(name: str) -> str:
    return (Path(__file__).parent / name).read_text().removeprefix("<?php")


@unittest.skipIf(missing(), missing())
class SmallNumbers(SystemTest):
    maxDiff = None
    def setUp(self) -> None:
        super().setUp()
        self.name = str(recognise(self.live.folder).database.url.database)
        for sql in TABLES.split(";"):
            mariadb().run(sql, database=self.name)
        self.ask(self.live, SELL + "for ($i = 1; $i < 14; $i++) sell(2, \"v$i\");")

    def shop(self) -> list[list[tuple[Any, ...]]]:
        return [mariadb().run(f"SELECT * FROM kr_counter_{t}", database=self.name)
                for t in ("orders", "lines", "receipts", "addresses")]

    def told(self, site: PhpSite) -> dict[str, Counter[str]]:
        """Everything that a site says of itself, by names and not by numbers."""
        said = json.loads(site(code("told.php")).replace(json.dumps(site.url)[1:-1].replace("/", "\\\\\\/"), "URL"))
        return {what: Counter(lines) for what, lines in said.items()}

    def test_the_systems_own_screens(self) -> None:
        """An update, work on the system's screens, a test order; live sells, too: 0 questions, 0 refusals, 0 left."""
        staging: PhpSite = self.clone()
        self.ask(staging, UPDATE + SELL + SCREENS + "sell(2, 'tester'); sell(2, 'tester');")
        self.ask(self.live, SELL + "for ($i = 1; $i < 4; $i++) { page(\"Live $i\"); sell(2, \"customer$i\"); }")
        shop = self.shop()
        with opened(self.home, self.home.read("autumn")) as crew:
            found = compare_voyage(crew)[0]
            self.assertEqual([str(q) for q in found.questions], [])
            prepared = prepare(crew)
        self.assertEqual([i.id for i in prepared.plan.selection.waiting], [])
        counted = {i.kind for i in found.items.values() if "counter" in i.kind and not i.visitors}
        self.assertLessEqual(counted, {"counter_slots"})
        _, left = self.merge()
        self.assertEqual(self.shop(), shop)  # no test receipt came, and no number of live's next customers is taken
        own = {n: s for n, s in left.items() if s != "kept" and "counter" not in n and not n.startswith("comment/")}
        self.assertEqual(own, {})
        said = self.ask(self.live, "echo json_encode([get_option('comments_per_page'), count(array_filter("
                                   "get_posts(['numberposts' => -1, 'post_type' => ['post', 'page']]), "
                                   "fn($p) => str_starts_with($p->post_title, 'New '))), "
                                   "get_option('widget_text')[2]['title'], "
                                   "get_the_title(get_option('page_on_front'))]);")
        self.assertEqual(said, ["20", 12, "Hours", "New 12"])

    def test_all_that_the_screens_offer(self) -> None:
        """Everything that editors can do on them, numbers colliding all over: 0 questions, 0 refusals, 0 left; and live
        is what it was and what staging did."""
        staging, seed = self.clone(), self.told(self.live)
        self.ask(staging, UPDATE + SELL + "sell(2, 'tester');")
        self.assertGreaterEqual(int(staging(code("screens.php"))), 120)
        self.ask(self.live, SELL + "for ($i = 1; $i < 9; $i++) { page(\"Live $i\"); sell(2, \"customer$i\"); "
                                   "picture(\"live$i\", $i); wp_insert_term(\"Live $i\", 'category'); }")
        shop, before, done = self.shop(), self.told(self.live), self.told(staging)
        with opened(self.home, self.home.read("autumn")) as crew:
            prepared = prepare(crew)
        self.assertEqual([str(q) for q in prepared.comparison.questions], [])
        self.assertEqual([i.id for i in prepared.plan.selection.waiting], [])
        _, left = self.merge()
        self.assertEqual(self.shop(), shop)
        self.assertEqual({n: s for n, s in left.items() if s != "kept" and "counter" not in n}, {})
        unsaved = "SELECT count(*) FROM $wpdb->posts WHERE post_name LIKE '%-autosave-%'"
        counted = [self.ask(site, f'global $wpdb; echo json_encode([$wpdb->get_var("{unsaved}")]);')
                   for site in (staging, self.live)]
        self.assertEqual([["1"], ["0"]], counted)
        after = self.told(self.live)
        for what, was in seed.items():
            wanted = before[what] + (done[what] - was) - (was - done[what])
            self.assertEqual((after[what] - wanted, wanted - after[what]), (Counter(), Counter()), what)


if __name__ == "__main__":
    unittest.main()
