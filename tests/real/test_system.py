"""The real PHP content management system on MariaDB, asked through its own functions."""

import json
import threading
import time
import unittest
from typing import Any

import pymysql

from nostos.around.survey import survey
from nostos.core.anchor.names import Side
from nostos.core.anchor.open_voyage import opened
from nostos.core.apply.merge import merge
from nostos.core.clone.clone import clone
from nostos.core.clone.options import CloneOptions
from nostos.core.clone.remove import remove
from nostos.core.errors import SiteError
from nostos.core.plan.prepared import compare_voyage, prepare
from nostos.core.plan.selection import Choice
from nostos.core.plan.selection_file import read as read_selection
from nostos.core.plan.selection_file import write
from nostos.core.sites.php_configuration import read, rewritten
from nostos.core.sites.recognise import recognise
from nostos.core.voyages.home import Home
from tests.real.servers import PhpSite, free_port, mariadb, missing
from tests.support import SiteTest

TOOLS = """
require_once ABSPATH . 'wp-admin/includes/image.php';
require_once ABSPATH . 'wp-admin/includes/plugin.php';
function picture($name, $red) {
  $image = imagecreatetruecolor(900, 600); imagefill($image, 0, 0, imagecolorallocate($image, $red, 80, 120));
  ob_start(); imagepng($image); $up = wp_upload_bits("$name.png", null, ob_get_clean());
  $id = wp_insert_attachment(['post_mime_type' => 'image/png', 'post_title' => $name, 'post_status' => 'inherit'],
    $up['file']);
  wp_update_attachment_metadata($id, wp_generate_attachment_metadata($id, $up['file'])); return $id; }
function page($title, $more = []) {
  return wp_insert_post($more + ['post_type' => 'page', 'post_title' => $title, 'post_status' => 'publish']); }
function entry($title, $page) {
  wp_update_nav_menu_item(wp_get_nav_menu_object('Main')->term_id, 0, ['menu-item-title' => $title,
    'menu-item-object' => 'page', 'menu-item-object-id' => $page, 'menu-item-type' => 'post_type',
    'menu-item-status' => 'publish']); }
"""


class SystemTest(SiteTest):
    """A site of the real system, with a page, a picture and a menu."""

    def setUp(self) -> None:
        super().setUp()
        self.live = PhpSite(self.folder / "live").install()
        self.ask(self.live, """
            $page = page('Programme', ['post_content' => "<p>One, at " . home_url('/x') . "</p>\\n\\n<p>Two</p>"]);
            set_post_thumbnail($page, picture('dome', 10));
            wp_create_nav_menu('Main'); entry('Programme', $page);
            update_option('sidebars', ['deep' => ['url' => home_url('/é'), 'json' => json_encode([home_url()])]]);""")
        self.home = Home(self.folder / "home")

    def ask(self, site: PhpSite, code: str) -> Any:
        """Run PHP in a site; what it prints is JSON, or nothing."""
        said = site(TOOLS + code)
        return json.loads(said) if said else None

    def clone(self, **options: Any) -> PhpSite:
        staging = PhpSite(self.folder / "staging", free_port())
        clone(self.home, self.at(self.live), "autumn", self.at(staging), staging.url, CloneOptions(**options))
        return staging

    @staticmethod
    def at(site: PhpSite) -> str:
        """Where a site is, as a user writes it."""
        return str(site.folder)

    def merge(self, *take: str) -> Any:
        with opened(self.home, self.home.read("autumn")) as crew:
            result = merge(self.home, crew, prepare(crew, Choice(take)))
            self.assertTrue(all(line.holds for line in result.ledger))
            left = {i.id: str(i.standing) for i in compare_voyage(crew)[0].items.values()}
        return result, left

    def standings(self) -> dict[str, str]:
        with opened(self.home, self.home.read("autumn")) as crew:
            return {i.id: str(i.standing) for i in compare_voyage(crew)[0].items.values()}

    def week_of_work(self, staging: PhpSite) -> None:
        extension = staging.folder / "wp-content/plugins/star-chart"
        extension.mkdir()
        (extension / "star-chart.php").write_text("<?php\n/* Plugin Name: Star Chart\nVersion: 2.0 */\n")
        theme = staging.folder / "wp-content/themes/dusk"
        theme.mkdir()
        (theme / "style.css").write_text("/*\nTheme Name: Dusk\nVersion: 1.0\n*/\n")
        (theme / "index.php").write_text("<?php the_post(); the_content(); wp_footer();\n")
        self.ask(staging, """
            $picture = picture('autumn', 200); $parent = get_page_by_path('programme')->ID;
            $term = wp_insert_term('Autumn', 'category')['term_id'];
            $page = page('Autumn', ['post_parent' => $parent]);
            wp_update_post(['ID' => $page, 'post_content' => '<!-- wp:image {"id":' . $picture . '} --><img src="'
              . wp_get_attachment_image_url($picture, 'medium') . '" class="wp-image-' . $picture
              . '"/><!-- /wp:image -->[gallery ids="' . "$picture,$picture" . '"]<a href="?page_id=' . $page
              . '">me</a>']);
            set_post_thumbnail($page, $picture); entry('Autumn evenings', $page); entry('', $page);
            $post = wp_insert_post(['post_title' => 'News', 'post_status' => 'publish', 'post_category' => [$term]]);
            update_option('page_on_front', $page); update_option('show_on_front', 'page'); stick_post($post);
            wp_update_post(['ID' => $parent, 'post_title' => 'Our programme',
              'post_content' => "<p>One, from staging</p>\\n\\n<p>Two</p>"]);
            activate_plugin('star-chart/star-chart.php'); switch_theme('dusk');
            set_theme_mod('nav_menu_locations', ['primary' => wp_get_nav_menu_object('Main')->term_id]);
            set_theme_mod('custom_logo', $picture);""")

    def life_on_live(self) -> Any:
        return self.ask(self.live, """
            for ($i = 0; $i < 9; $i++)
              $ids[] = wp_insert_post(['post_title' => "Live $i", 'post_status' => 'publish']);
            $comment = wp_insert_comment(['comment_post_ID' => 1, 'comment_content' => 'late', 'comment_author' => 'y',
              'comment_approved' => 1]);
            $user = wp_create_user('visitor', 'pw', 'v@x.example'); $page = get_page_by_path('programme')->ID;
            wp_update_post(['ID' => $page,
              'post_content' => get_post($page)->post_content . "\\n\\n<p>Three, live</p>"]);
            wp_insert_term('Tag', 'post_tag'); update_option('blogdescription', 'from live');
            echo json_encode([$ids, $comment, $user, array_map(fn($i) => get_post($i)->post_title, $ids)]);""")

    def what_came(self) -> Any:
        return self.ask(self.live, """
            $page = get_page_by_path('programme/autumn'); $parent = get_post($page->post_parent);
            $logo = get_theme_mod('custom_logo'); $meta = wp_get_attachment_metadata($logo);
            $dir = dirname(get_attached_file($logo));
            echo json_encode(['id' => $page->ID, 'parent' => $parent->post_title, 'logo' => $logo,
              'thumbnail' => get_post_thumbnail_id($page), 'content' => $page->post_content,
              'text' => $parent->post_content,
              'files' => array_map(fn($s) => file_exists("$dir/{$s['file']}"), array_values($meta['sizes'])),
              'whole' => file_exists(get_attached_file($logo)), 'front' => get_option('page_on_front'),
              'menu' => array_map(fn($i) => [$i->title, (int) $i->object_id], wp_get_nav_menu_items('Main')),
              'sticky' => array_map(fn($i) => get_post($i)->post_title, get_option('sticky_posts')),
              'count' => get_term_by('slug', 'autumn', 'category')->count, 'theme' => wp_get_theme()->get('Name'),
              'active' => is_plugin_active('star-chart/star-chart.php'), 'line' => get_option('blogdescription'),
              'mark' => function_exists('nostos_staging_mark'), 'public' => get_option('blog_public'),
              'comments' => get_post(1)->comment_count, 'locations' => get_theme_mod('nav_menu_locations'),
              'main' => wp_get_nav_menu_object('Main')->term_id]);""")


@unittest.skipIf(missing(), missing())
class RealSystem(SystemTest):
    def test_survey_needs_only_the_folder(self) -> None:
        found = survey(recognise(self.live.folder))
        self.assertEqual((found.name, found.url, found.system), ("kestrel-ridge", self.live.url, "WordPress"))
        self.assertEqual(found.findings, ())
        version, theme = self.ask(
            self.live, "global $wp_version; echo json_encode([$wp_version, wp_get_theme()->get('Version')]);")
        said = {(p.kind, p.name): p.version for p in found.parts}
        self.assertEqual(said["core", "wp-includes"], version)
        self.assertIn(theme, [v for (kind, _), v in said.items() if kind == "theme"])
        self.ask(self.live, "update_option('sidebars', 'x'); global $wpdb; $wpdb->update($wpdb->options, "
                            "['option_value' => 'a:1:{s:3:\"url\";s:9:\"' . home_url('/') . '\";}'], "
                            "['option_name' => 'sidebars']);")
        self.assertIn("1 structured values in options cannot be read",
                      repr(survey(recognise(self.live.folder)).findings))
        staging = self.clone()
        raw = ("global $wpdb; echo json_encode($wpdb->get_var(\"SELECT option_value FROM $wpdb->options "
               "WHERE option_name='sidebars'\"));")
        self.assertEqual(self.ask(staging, raw), self.ask(self.live, raw))
        self.assertEqual(self.standings(), {})
        mariadb().run("ALTER TABLE kr_links ENGINE=MyISAM", database=found.database.split()[0])
        self.assertIn("kr_links is kept by MyISAM", repr(survey(recognise(self.live.folder)).findings))

    def test_a_copy_under_its_own_address(self) -> None:
        for options in ({}, {"prefix": "stage_"}):
            with self.subTest(options):
                staging = self.clone(**options)
                self.assertEqual(self.standings(), {})
                number = self.ask(staging, "echo get_page_by_path('programme')->ID;")
                staging.serve(self)
                page = staging.get(f"/?page_id={number}")
                self.assertIn("<p>One, at " + staging.url, page)
                self.assertIn("STAGING COPY of kestrel-ridge: voyage autumn", page)
                self.assertIn("noindex", page)
                self.assertNotIn(self.live.url, page)
                said = self.ask(staging, """echo json_encode([get_option('sidebars'), get_option('blog_public'),
                    wp_mail('a@b.example', 'x', 'y'), wp_get_ready_cron_jobs(), $wpdb->prefix,
                    user_can(1, 'manage_options')]);""")
                self.assertEqual(said, [{"deep": {"url": staging.url + "/é", "json": json.dumps([staging.url]).replace(
                    "/", "\\/")}}, 0, False, [], options.get("prefix", "kr_"), True])
                self.assertNotIn("\ufdd0", "".join(self.standings()))
                name = mariadb().run("SELECT 1 FROM information_schema.tables WHERE table_name = 'stage_posts'")
                self.assertEqual(len(name), len(options))
                host = f"127.0.0.1:{self.live.port}"
                place = self.home.read("autumn").place
                prefix = options.get("prefix", "kr_")
                for (table,) in mariadb().run("SELECT table_name FROM information_schema.tables WHERE table_schema=%s "
                                              "AND table_name LIKE %s", place, prefix.replace("_", "\\_") + "%"):
                    self.assertNotIn(host, repr(mariadb().run(f"SELECT * FROM `{table}`", database=place)), table)
                text = (staging.folder / "wp-config.php").read_text()
                self.assertIn("/* The observatory's own settings. */", text)
                self.assertIn("# define( 'DB_NAME', 'not_this_one' );", text)
                self.assertEqual(remove(self.home, self.home.read("autumn")), [])
                self.assertFalse(staging.folder.exists())

    def test_work_goes_home_and_live_keeps_its_own(self) -> None:
        staging = self.clone()
        self.week_of_work(staging)
        lived = self.life_on_live()
        result, left = self.merge()
        self.assertEqual([i.id for i in result.clashes], [])
        self.assertTrue(all(int(line.before, 16) for line in result.ledger))
        self.assertEqual(set(left.values()), {"kept"})
        self.assertEqual(left["page/programme"], "kept")
        self.live.serve(self)
        parent = self.ask(self.live, "echo get_page_by_path('programme')->ID;")
        said = self.what_came()
        ids, comment, user, titles = lived
        self.assertNotIn(said["id"], ids)
        self.assertEqual(said["parent"], "Our programme")
        self.assertEqual(str(said["thumbnail"]), str(said["logo"]))
        number = said["thumbnail"]
        self.assertEqual(said["content"], (
            f'<!-- wp:image {{"id":{number}}} --><img src="{self.live.url}/wp-content/uploads/'
            f'{time.strftime("%Y/%m")}/autumn-300x200.png" class="wp-image-{number}" /><!-- /wp:image -->'
            f'[gallery ids="{number},{number}"]<a href="?page_id={said["id"]}">me</a>'))
        self.assertEqual(said["text"], "<p>One, from staging</p>\n\n<p>Two</p>\n\n<p>Three, live</p>")
        self.assertTrue(all(said["files"]) and said["files"] and said["whole"])
        self.assertEqual(said["front"], str(said["id"]))
        self.assertEqual(said["menu"][1:], [["Autumn evenings", said["id"]], ["Autumn", said["id"]]])
        self.assertEqual((said["sticky"], said["count"], said["theme"], said["active"]), (["News"], 1, "Dusk", True))
        self.assertEqual((said["line"], said["mark"], said["public"]), ("from live", False, "1"))
        self.assertEqual((said["comments"], said["locations"]), ("2", {"primary": said["main"]}))
        self.assertEqual(self.ask(self.live, f"""echo json_encode([get_comment({comment})->comment_content,
            get_userdata({user})->user_login, array_map(fn($i) => get_post($i)->post_title, {json.dumps(ids)})]);"""),
            ["late", "visitor", titles])
        self.assertIn("One, from staging", self.live.get(f"/?page_id={parent}"))
        staging_port = self.home.read("autumn").url.rpartition(":")[2]
        place = recognise(self.live.folder).database.url.database
        for table in ("kr_posts", "kr_postmeta", "kr_options"):
            self.assertNotIn(f":{staging_port}", repr(mariadb().run(f"SELECT * FROM {table}", database=str(place))))
        # a second merge: a child of the page that was renumbered by the first
        self.ask(staging, "page('Talks', ['post_parent' => get_page_by_path('programme/autumn')->ID]);")
        self.merge("page/talks")
        talks = self.ask(self.live, "echo get_page_by_path('programme/autumn/talks')->post_parent;")
        self.assertEqual(talks, said["id"])

    def test_both_sides_changed_one_thing(self) -> None:
        """Structures and lists key by key, a clash decided in a file, a removal refused; then a refresh."""
        plugin = "<?php\n/* Plugin Name: {0}\nVersion: 1 */\n"
        for name in ("moon", "tide"):
            (self.live.folder / f"wp-content/plugins/{name}").mkdir(parents=True)
            (self.live.folder / f"wp-content/plugins/{name}/{name}.php").write_text(plugin.format(name))
        self.ask(self.live, """
            update_option('sidebars_widgets', ['wp_inactive_widgets' => [], 'sidebar-1' => ['block-2', 'block-3']]);
            wp_insert_post(['post_title' => 'Old news', 'post_name' => 'old-news', 'post_status' => 'publish']);""")
        staging = self.clone()
        both = "activate_plugin('{0}/{0}.php'); set_theme_mod('{1}', '{2}'); wp_create_user('editor', 'pw', '{3}');" \
            "update_option('sidebars_widgets', ['wp_inactive_widgets' => [], 'sidebar-1' => {4}]);" \
            "wp_update_post(['ID' => get_page_by_path('programme')->ID, 'post_title' => '{5}']);"
        self.ask(staging, both.format("moon", "background_color", "112233", "e@x.example",
                                      "['block-2', 'block-9', 'block-3']", "From staging")
                 + "wp_delete_post(get_page_by_path('old-news', OBJECT, 'post')->ID, true);")
        self.ask(self.live, both.format("tide", "header_text", "yes", "e@x.example",
                                        "['block-2', 'block-3', 'block-8']", "From live") + """
            wp_insert_comment(['comment_post_ID' => get_page_by_path('old-news', OBJECT, 'post')->ID,
              'comment_content' => 'still reading', 'comment_author' => 'y', 'comment_approved' => 1]);""")
        found = self.standings()
        self.assertEqual((found["page/programme"], found["post/old-news"]), ("clash", "clash"))
        file = self.folder / "choice.toml"
        with opened(self.home, self.home.read("autumn")) as crew:
            items = compare_voyage(crew)[0].items
            self.assertIn("live has built on it since: comment/", items["post/old-news"].reason)
            write(file, crew.voyage, prepare(crew), "now")
            file.write_text(file.read_text().replace('# "page/programme" = "live"', '"page/programme" = "staging"'))
            merge(self.home, crew, prepare(crew, read_selection(file).choice))
        ask = """$mods = get_option('theme_mods_' . get_option('stylesheet'));
            echo json_encode([get_option('active_plugins'), $mods['background_color'] ?? '', $mods['header_text'] ?? '',
              get_option('sidebars_widgets')['sidebar-1'], get_page_by_path('programme')->post_title,
              get_user_by('login', 'editor')->user_email, count(get_users()),
              count(get_comments(['post_id' => get_page_by_path('old-news', OBJECT, 'post')->ID ?? 0]))]);"""
        merged = [["tide/tide.php", "moon/moon.php"], "112233", "yes", ["block-2", "block-9", "block-3", "block-8"],
                  "From staging", "e@x.example", 2, 1]
        self.assertEqual(self.ask(self.live, ask), merged)
        before = mariadb().run("SELECT * FROM kr_posts", database=str(
            recognise(self.live.folder).database.url.database))
        with opened(self.home, self.home.read("autumn")) as crew:
            done = merge(self.home, crew, prepare(crew, Choice(everyone=True), toward=Side.STAGING))
            self.assertTrue(all(line.holds for line in done.ledger))
        self.assertEqual(before, mariadb().run("SELECT * FROM kr_posts", database=str(
            recognise(self.live.folder).database.url.database)))
        self.assertEqual(self.ask(staging, ask)[:7], merged[:7])
        left = {n: s for n, s in self.standings().items() if not n.startswith("comment/")}
        # One login made on both sides is one member; the two passwords are not to be merged.
        self.assertEqual(left, {"post/old-news": "clash", "member/editor": "clash"})

    def test_a_writer_loses_nothing_and_waits_for_nobody(self) -> None:
        """Pairs of rows, each pair in one transaction, before, while and after a clone, a compare and a merge."""
        place = str(recognise(self.live.folder).database.url.database)
        stop, written, waits = threading.Event(), [], []

        def write() -> None:
            connection = pymysql.connect(unix_socket=mariadb().socket, user="root", database=place, charset="utf8mb4")
            while not stop.is_set():
                number = len(written)
                start = time.monotonic()
                with connection.cursor() as cursor:
                    cursor.execute("INSERT INTO kr_comments (comment_post_ID, comment_author, comment_content) "
                                   "VALUES (1, 'writer', %s)", (str(number),))
                    cursor.execute("INSERT INTO kr_postmeta (post_id, meta_key, meta_value) VALUES (1, 'pair', %s)",
                                   (str(number),))
                connection.commit()
                waits.append(time.monotonic() - start)
                written.append(number)
                time.sleep(0.002)
            connection.close()

        writer = threading.Thread(target=write)
        writer.start()
        try:
            staging = self.clone()
            self.ask(staging, "page('From staging', ['post_content' => 'x']);")
            self.merge("page/*")
        finally:
            stop.set()
            writer.join()
        self.assertGreater(len(written), 100)
        self.assertLess(sorted(waits)[int(len(waits) * 0.99)], 0.25)
        for database, count in ((place, len(written)), (self.home.read("autumn").place, None)):
            comments = mariadb().run("SELECT comment_content FROM kr_comments WHERE comment_author='writer' ORDER BY "
                                     "comment_ID", database=database)
            pairs = mariadb().run("SELECT meta_value FROM kr_postmeta WHERE meta_key='pair' ORDER BY meta_id",
                                  database=database)
            self.assertEqual(comments, pairs)  # staging is one single moment of live
            self.assertEqual(len(comments), count or len(comments))
        self.assertEqual(len(self.ask(self.live, "echo json_encode(get_pages());")), 3)


class Configuration(SiteTest):
    def test_it_is_read_and_never_run(self) -> None:
        path = self.folder / "wp-config.php"
        path.write_text("""<?php
            // define('DB_NAME', 'commented');
            /* define('DB_NAME', 'commented too'); */
            define("DB_NAME", 'ridge'); define( 'DB_USER' , "u\\"ser" );
            define('DB_PASSWORD', 'it\\'s # not // a comment; \\\\');
            define('DB_HOST', getenv('RIDGE_HOST') ?: 'db.example:3307');
            $table_prefix  =  "odd_";
            system('touch ran');""")
        said = read(path, "mysql")
        url = said.database.url
        self.assertEqual((url.database, url.username, url.password, url.host, url.port, said.database.prefix),
                         ("ridge", 'u"ser', "it's # not // a comment; \\", "db.example", 3307, "odd_"))
        self.assertFalse((self.folder / "ran").exists())
        before = path.read_text()
        path.write_bytes(rewritten(path.read_bytes(), {"DB_NAME": "new'name"}, "new_"))
        self.assertEqual(path.read_text(), before.replace("'ridge'", "'new\\'name'").replace('"odd_"', "'new_'"))
        for host, expected in {"localhost:/run/s": ("localhost", None, "/run/s"), "[::1]:33": ("::1", 33, None),
                               ":/s": (None, None, "/s"), "h": ("h", None, None)}.items():
            path.write_text(before.replace("getenv('RIDGE_HOST') ?: 'db.example:3307'", f"'{host}'"))
            url = read(path, "mysql").database.url
            self.assertEqual((url.host, url.port, url.query.get("unix_socket")), expected)
        path.write_text(before.replace("'ridge'", "compute()"))
        with self.assertRaisesRegex(SiteError, "DB_NAME"):
            read(path, "mysql")


