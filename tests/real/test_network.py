"""An installation of the real PHP system that holds three sites, with orders on another of them meanwhile."""

import unittest
from typing import Any

from nostos.around.rehearsal.rehearse import RehearsalOptions, rehearse
from nostos.around.rehearsal.serving import command_of
from nostos.around.survey import survey
from nostos.core.anchor.open_voyage import opened
from nostos.core.apply.merge import merge
from nostos.core.clone.clone import clone
from nostos.core.clone.options import CloneOptions
from nostos.core.clone.remove import remove
from nostos.core.errors import SiteError
from nostos.core.plan.prepared import compare_voyage, prepare
from nostos.core.plan.selection import Choice
from nostos.core.sites.recognise import recognise
from nostos.core.takeback.undo import prepare_undo, to_take_back
from tests.real.servers import PhpSite, free_port, mariadb, missing
from tests.real.test_system import SystemTest

MARK = "/* The observatory's own settings. */"
CONSTANTS = """define( 'MULTISITE', true );
define( 'SUBDOMAIN_INSTALL', false );
define( 'DOMAIN_CURRENT_SITE', '{host}' );
define( 'PATH_CURRENT_SITE', '/' );
define( 'SITE_ID_CURRENT_SITE', 1 );
define( 'BLOG_ID_CURRENT_SITE', 1 );
"""
ORDERS = """switch_to_blog(3); global $wpdb;
    for ($i = 0; $i < 5; $i++) { wp_insert_comment(['comment_post_ID' => 1, 'comment_content' => "Order $i"]); }
    wp_insert_post(['post_type' => 'post', 'post_title' => 'Of the notes', 'post_status' => 'publish']);"""


@unittest.skipIf(missing(), missing())
class OfSeveralSites(SystemTest):
    def setUp(self) -> None:
        super().setUp()
        host = self.live.url.partition("//")[2]
        self.live("define('WP_INSTALLING_NETWORK', true); require_once ABSPATH . 'wp-admin/includes/upgrade.php'; "
                  "require_once ABSPATH . 'wp-admin/includes/network.php'; global $wpdb; foreach ( $wpdb->tables( "
                  "'ms_global' ) as $table => $name ) { $wpdb->$table = $name; } install_network(); "
                  f"populate_network(1, '{host}', 'a@b.example', 'Ridge', '/', false);")
        path = self.live.folder / "wp-config.php"
        path.write_text(path.read_text().replace(MARK, CONSTANTS.format(host=host) + MARK))
        self.live("foreach (['/shop/' => 'Shop', '/notes/' => 'Notes'] as $path => $title) { wp_insert_site(["
                  "'domain' => DOMAIN_CURRENT_SITE, 'path' => $path, 'title' => $title, 'user_id' => 1]); }")
        # It leaves the port out of an address, which no live site has.
        self.live("global $wpdb; $wpdb->query(\"UPDATE $wpdb->blogs SET domain = '\" . DOMAIN_CURRENT_SITE . \"'\"); "
                  "foreach ([2 => 'shop', 3 => 'notes'] as $n => $path) { switch_to_blog($n); "
                  "update_option('permalink_structure', ''); foreach (['home', 'siteurl'] as $name) { update_option("
                  "$name, 'http://' . DOMAIN_CURRENT_SITE . '/' . $path); } restore_current_blog(); }")

    def on(self, site: PhpSite, number: int, code: str) -> Any:
        return self.ask(site, f"switch_to_blog({number}); {code}")

    def cloned(self, **options: Any) -> PhpSite:
        staging = PhpSite(self.folder / "staging", free_port())
        clone(self.home, str(self.live.folder), "autumn", str(staging.folder), staging.url, CloneOptions(**options))
        return staging

    def rows_of(self, number: int) -> object:
        database = self.ask(self.live, "echo json_encode(DB_NAME);")
        return [mariadb().run(f"SELECT * FROM kr_{number}_{table}", database=database)
                for table in ("posts", "comments", "terms")]

    def test_a_copy_is_of_all_of_them_and_each_is_told(self) -> None:
        said = repr(survey(recognise(self.live.folder)).findings)
        self.assertIn("an installation of 3 sites", said)
        self.assertIn("2 " + self.live.url.partition("//")[2] + "/shop/", said)
        staging = self.cloned()
        self.assertEqual(self.standings(), {})
        staging.serve(self)
        self.assertIn("Shop", staging.get("/shop/"))
        self.assertNotIn(self.live.url, staging.get("/shop/"))
        self.assertEqual(self.ask(staging, "echo json_encode([get_blog_option(2, 'home'), get_site(2)->domain]);"),
                         [staging.url + "/shop", staging.url.partition("//")[2]])

    def test_work_on_the_whole_goes_home_under_each_sites_own_ids(self) -> None:
        staging = self.cloned()
        self.on(staging, 2, "set_post_thumbnail(page('Evening tickets', ['post_content' => 'At ' . home_url('/')]), "
                            "picture('wheel', 90)); update_option('blogname', 'The shop');")
        self.ask(staging, "page('For all');")
        self.on(self.live, 2, "page('Live in the shop'); page('And another');")
        self.ask(self.live, ORDERS)
        standings = self.standings()
        for name, standing in {"page@2/evening-tickets": "homeward", "setting@2/blogname": "homeward",
                               "page/for-all": "homeward", "page@2/live-in-the-shop": "kept"}.items():
            self.assertEqual(standings.get(name), standing, standings)
        notes = self.rows_of(3)
        with opened(self.home, self.home.read("autumn")) as crew:
            result = merge(self.home, crew, prepare(crew, Choice()))
            self.assertTrue(all(line.holds for line in result.ledger))
            left = compare_voyage(crew)[0].items.values()
            self.assertEqual([i.id for i in left if i.goes_home and not i.careful], [])
        self.assertEqual(self.rows_of(3), notes)
        title, url, name, picture = self.on(self.live, 2, """$p = get_page_by_path('evening-tickets');
            echo json_encode([$p->post_title, $p->post_content, get_option('blogname'),
            (bool) wp_get_attachment_url(get_post_thumbnail_id($p))]);""")
        self.assertEqual((title, url, name, picture), (
            "Evening tickets", f"At {self.live.url}/shop/", "The shop", True))
        self.assertTrue(list(self.live.folder.glob("wp-content/uploads/sites/2/**/wheel.png")))
        with opened(self.home, self.home.read("autumn")) as crew:
            merge(self.home, crew, prepare_undo(self.home, crew, to_take_back(self.home, "autumn", None)))
        self.assertEqual(self.rows_of(3), notes)
        self.assertEqual(self.on(self.live, 2, "echo json_encode(get_option('blogname'));"), "Shop")

    def test_a_voyage_of_one_of_them(self) -> None:
        with self.assertRaisesRegex(SiteError, "There is no site /nowhere/"):
            self.cloned(of_site="/nowhere/")
        staging = self.cloned(of_site="/shop/")
        self.on(staging, 2, "page('Evening tickets');")
        self.on(staging, 3, "page('Of the notes');")
        self.ask(staging, "page('For all'); update_site_option('site_name', 'Renamed');")
        (staging.folder / "wp-content" / "themes" / "mine").mkdir()
        (staging.folder / "wp-content" / "themes" / "mine" / "style.css").write_text("/*\nTheme Name: Mine\n*/\n")
        self.ask(self.live, ORDERS)
        with opened(self.home, self.home.read("autumn")) as crew:
            items = compare_voyage(crew)[0].items
            self.assertEqual({n for n in ("page@2/evening-tickets", "page@3/of-the-notes", "page/for-all", "theme/mine",
                                          "network-setting/site_name") if items[n].careful}, {
                "page@3/of-the-notes", "page/for-all", "theme/mine", "network-setting/site_name"})
            chosen = prepare(crew, Choice())
            self.assertEqual({i.id for i in chosen.plan.selection.items if not i.id.startswith("revision")},
                             {"page@2/evening-tickets"})
            merge(self.home, crew, chosen)
            merge(self.home, crew, prepare(crew, Choice(("theme/mine",))))
        self.assertTrue((self.live.folder / "wp-content/themes/mine/style.css").exists())
        self.assertIsNone(self.ask(self.live, "echo json_encode(get_page_by_path('for-all'));"))


    def test_sites_with_hosts_of_their_own(self) -> None:
        there = "localhost:" + self.live.url.rpartition(":")[2]
        self.live(f"global $wpdb; $wpdb->update($wpdb->blogs, ['domain' => '{there}', 'path' => '/'], "
                  "['blog_id' => 2]); switch_to_blog(2); foreach (['home', 'siteurl'] as $name) { "
                  f"update_option($name, 'http://{there}'); }} wp_insert_post(['post_type' => 'page', "
                  "'post_status' => 'publish', 'post_title' => 'Tickets', "
                  "'post_content' => 'At ' . home_url('/tickets')]);")
        staging = PhpSite(self.folder / "staging", free_port())
        told = clone(self.home, str(self.live.folder), "autumn", str(staging.folder), staging.url).elsewhere
        self.assertEqual(told, (f"2 {there}/",))
        remove(self.home, self.home.read("autumn"))
        here = "localhost:" + staging.url.rpartition(":")[2]
        made = clone(self.home, str(self.live.folder), "autumn", str(staging.folder), staging.url,
                     CloneOptions(addresses={there: here}))
        self.assertEqual((made.elsewhere, made.left, self.standings()), ((), (), {}))
        staging.serve(self)
        shown = staging.get("/", here)
        self.assertIn("Shop", shown)
        self.assertNotIn(there, shown)
        self.on(staging, 2, "wp_update_post(['ID' => get_page_by_path('tickets')->ID, 'post_content' => 'By ' . "
                            "home_url('/tickets') . ' and ' . get_home_url(1, '/')]);")
        self.live.serve(self, workers=4)  # the system asks itself something when a page is published
        with opened(self.home, self.home.read("autumn")) as crew:
            _, found = rehearse(self.home, crew, Choice(), RehearsalOptions(command_of(crew.live), 16, 200))
            assert found is not None
            pages = {p.path: (str(p.verdict), p.item) for p in found.pages}
            self.assertEqual(pages[f"http://{there}/?p=3"], ("expected", "page@2/tickets"))
            self.assertEqual([pages[p][0] for p in ("/notes/?p=1", f"http://{there}/", "/")], ["same"] * 3)
            merge(self.home, crew, prepare(crew, Choice()))
        self.assertEqual(self.on(self.live, 2, "echo json_encode(get_page_by_path('tickets')->post_content);"),
                         f"By http://{there}/tickets and {self.live.url}/")


if __name__ == "__main__":
    unittest.main()
