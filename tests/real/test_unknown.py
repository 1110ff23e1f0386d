"""A shop that no profile names, on the real PHP system: both sides sell under the same numbers."""

import shutil
import tempfile
import unittest
from functools import partial
from pathlib import Path
from typing import Any
from urllib.parse import quote

from nostos.around.survey import survey
from nostos.core.anchor.open_voyage import answers_of, opened
from nostos.core.clone.remove import remove
from nostos.core.learning.findings import add_answers
from nostos.core.plan.prepared import compare_voyage
from nostos.core.sites.recognise import recognise
from tests.learning.test_learning import Maker
from tests.plan.test_unknown import LawElevenTest
from tests.real.servers import PASSWORD, PhpSite, mariadb, missing
from tests.real.test_system import SystemTest
from tests.support import Harbour

TABLES = """
CREATE TABLE {p}wares_orders (id bigint unsigned AUTO_INCREMENT PRIMARY KEY, order_number varchar(64) UNIQUE,
  status varchar(20), total decimal(10,2), billing_email varchar(100), customer_id bigint, created datetime);
CREATE TABLE {p}wares_order_lines (line_id bigint unsigned AUTO_INCREMENT PRIMARY KEY, order_id bigint,
  product_id bigint, qty int, total decimal(10,2));
CREATE TABLE {p}wares_linemeta (meta_id bigint unsigned AUTO_INCREMENT PRIMARY KEY, line_id bigint,
  meta_key varchar(60), meta_value longtext);
CREATE TABLE {p}wares_sessions (session_id bigint unsigned AUTO_INCREMENT PRIMARY KEY, session_key char(32) UNIQUE,
  session_value longtext);
CREATE TABLE {p}wares_lookup (product_id bigint PRIMARY KEY, min_price decimal(10,2), stock_quantity int)
"""
WARES = """
function ware($title, $picture) {
  $id = wp_insert_post(['post_type' => 'ware', 'post_status' => 'publish', 'post_title' => $title]);
  update_post_meta($id, '_price', 9); update_post_meta($id, '_stock', 50);
  update_post_meta($id, '_ware_pictures', "$picture,$picture"); update_post_meta($id, '_ware_options', ['hue' => 3]);
  global $wpdb; $wpdb->insert($wpdb->prefix . 'wares_lookup', ['product_id' => $id, 'min_price' => 9,
    'stock_quantity' => 50]);
  return $id; }
function shot($name) { return wp_insert_post(['post_type' => 'attachment', 'post_status' => 'inherit',
  'post_title' => $name, 'post_mime_type' => 'image/png']); }
function sell($number, $ware, $who) { global $wpdb; $p = $wpdb->prefix;
  $wpdb->insert("{$p}wares_orders", ['order_number' => $number, 'status' => 'paid', 'total' => 9,
    'billing_email' => "$who@visitor.example", 'customer_id' => 0, 'created' => '2026-01-01 10:00:00']);
  $order = $wpdb->insert_id;
  $wpdb->insert("{$p}wares_order_lines", ['order_id' => $order, 'product_id' => $ware, 'qty' => 1, 'total' => 9]);
  $wpdb->insert("{$p}wares_linemeta", ['line_id' => $wpdb->insert_id, 'meta_key' => '_ware', 'meta_value' => $ware]);
  // Kept as content of a type of its own, too, as some shops do.
  wp_insert_post(['post_type' => 'wares_order', 'post_status' => 'publish', 'post_title' => "Order $number $who"]); }
"""


@unittest.skipIf(missing(), missing())
class LawElevenOnMariaDB(LawElevenTest):
    def test_every_reference_on_live_is_what_it_was_in_staging(self) -> None:
        server = mariadb()
        for seed in range(8):
            folder = Path(tempfile.mkdtemp(prefix="nostos-test-"))
            self.addCleanup(shutil.rmtree, folder, ignore_errors=True)
            made, name = Maker(seed).make(), server.new_database()

            def ask(database: str, sql: str, *values: object) -> list[tuple[Any, ...]]:
                return server.run(sql.replace('"', "`").replace("?", "%s"), *values, database=database)

            for sql in made.sql:
                ask(name, sql.replace("INTEGER PRIMARY KEY AUTOINCREMENT", "INT AUTO_INCREMENT PRIMARY KEY"))
            (folder / "site").mkdir()
            (folder / "site/nostos.toml").write_text(
                f'[site]\nname = "made"\nurl = "http://made.example"\nfiles = "none"\ndatabase = "mysql://live:'
                f'{quote(PASSWORD, safe="")}@/{name}?unix_socket={server.socket}"\n'.replace("\\", "\\\\"))
            h = Harbour(folder, folder / "site")
            self.holds(seed, made, h, partial(ask, name), partial(ask, h.cloned.voyage.place))
            self.assertEqual(remove(h.home, h.home.read("trip")), [])


@unittest.skipIf(missing(), missing())
class UnknownShop(SystemTest):
    def setUp(self) -> None:
        super().setUp()
        self.name = str(recognise(self.live.folder).database.url.database)
        for sql in TABLES.format(p="kr_").split(";"):
            mariadb().run(sql, database=self.name)
        self.ask(self.live, WARES + """
            for ($i = 0; $i < 4; $i++) $shots[] = shot("shot$i");
            for ($i = 0; $i < 8; $i++) $wares[] = ware("Ware $i", $shots[$i % 4]);
            for ($i = 1; $i < 13; $i++) sell('W-' . (1000 + $i), $wares[$i % 8], "v$i");""")

    def rows(self, sql: str) -> list[tuple[Any, ...]]:
        return mariadb().run(sql, database=self.name)

    def shop(self) -> list[list[tuple[Any, ...]]]:
        return [self.rows(f"SELECT * FROM kr_wares_{t}") for t in ("orders", "order_lines", "linemeta", "sessions")]

    def test_both_sides_sell(self) -> None:
        told = [f.what for f in survey(recognise(self.live.folder)).findings]
        self.assertTrue(any("wares_orders" in what and "count as visitors'" in what for what in told), told)
        coded = "json_encode(['at' => home_url('/w'), 'in' => ABSPATH])"
        self.ask(self.live, "update_option('wares_paths', ['log' => ABSPATH . 'wares.log', 'coded' => base64_encode("
                            + coded + "), 'size' => 1]);")
        staging: PhpSite = self.clone()
        own = f"echo json_encode(array_merge(get_option('wares_paths'), ['is' => base64_encode({coded})]));"
        said = self.ask(staging, own)
        self.assertEqual((said["log"], said["coded"]), (f"{staging.folder}/wares.log", said["is"]))
        self.ask(staging, "update_option('wares_paths', ['size' => 2] + get_option('wares_paths'));")
        self.ask(staging, WARES + """
            $shot = shot('newshot'); $ware = ware('New ware', $shot); update_post_meta($ware, '_lead', $shot);
            update_option('wares_front', ['lead' => $ware, 'columns' => 3]); sell('W-1013', $ware, 'tester');
            $old = get_page_by_path('ware-1', OBJECT, 'ware'); wp_update_post(['ID' => $old->ID,
              'post_title' => 'Ware 1, better']);""")
        self.ask(self.live, WARES + """
            for ($i = 0; $i < 3; $i++) page("Live $i"); $old = get_page_by_path('ware-1', OBJECT, 'ware');
            sell('W-1013', $old->ID, 'customer'); update_post_meta($old->ID, '_stock', 49);""")
        shop = self.shop()
        _, left = self.merge()
        self.assertEqual(self.shop(), shop)  # no test order came, and nothing was hung on live's
        self.assertEqual([left[n] for n in ("ware/new-ware", "setting/wares_front")], ["open", "open"])
        with opened(self.home, self.home.read("autumn")) as crew:
            question, = compare_voyage(crew)[0].questions  # one: both are called so, and may be posts
            asked = {str(p) for p in question.places}
            database = crew.live.open(readonly=True)
            add_answers(answers_of(self.home, crew.live), dict.fromkeys(asked, "posts"), database.tables())
            database.close()
        self.assertEqual(asked, {"postmeta.meta_value[meta_key=_lead]",  # the pictures are called so
                                 "options.option_value[option_name=wares_front]/lead"})
        self.merge()
        self.assertEqual(self.shop(), shop)
        said = self.ask(self.live, """
            $new = get_page_by_path('new-ware', OBJECT, 'ware'); $shot = get_page_by_path('newshot', OBJECT,
              'attachment'); $old = get_page_by_path('ware-1', OBJECT, 'ware');
            echo json_encode([get_post_meta($new->ID, '_ware_pictures', true) === "$shot->ID,$shot->ID",
              get_post_meta($new->ID, '_lead', true) == $shot->ID, get_option('wares_front')['lead'] == $new->ID,
              $old->post_title, get_post_meta($old->ID, '_stock', true),
              count(get_posts(['post_type' => 'wares_order', 'numberposts' => -1]))]);""")
        self.assertEqual(said, [True, True, True, "Ware 1, better", "49", 13])
        said = self.ask(self.live, own)
        self.assertEqual((said["log"], said["coded"], said["size"]), (f"{self.live.folder}/wares.log", said["is"], 2))
