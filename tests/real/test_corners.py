"""The real PHP system in its corners: accounts, caches that hold more, what is trashed, its own configuration."""

from __future__ import annotations

import time
import unittest
from typing import Any

from nostos.core.anchor.names import Side
from nostos.core.anchor.open_voyage import opened
from nostos.core.apply.merge import merge
from nostos.core.clone.clone import clone
from nostos.core.clone.options import CloneOptions
from nostos.core.clone.remove import remove
from nostos.core.errors import MergeRefused, SelectionError, SiteError
from nostos.core.plan.prepared import compare_voyage, prepare
from nostos.core.plan.selection import Choice
from nostos.core.sites.recognise import recognise
from nostos.core.takeback.undo import prepare_undo, to_take_back
from tests.real.servers import mariadb, missing
from tests.real.test_system import SystemTest


@unittest.skipIf(missing(), missing())
class Corners(SystemTest):
    def test_what_is_kept_from_others_is_opened_only_by_name(self) -> None:
        self.ask(self.live, "page('Plans', ['post_password' => 'sky']); page('Notes', ['post_status' => 'private']);")
        staging = self.clone()
        self.ask(staging, """foreach (['Plans', 'Notes'] as $title) { $one = get_page_by_title($title);
            wp_update_post(['ID' => $one->ID, 'post_password' => '', 'post_status' => 'publish']); }
            page('Members', ['post_password' => 'dome']);""")
        told = ("echo json_encode(array_map(fn($t) => [get_page_by_title($t)->post_password, "
                "get_page_by_title($t)->post_status], ['Plans', 'Notes', 'Members']));")
        self.merge()
        self.assertEqual(self.ask(self.live, told), [["sky", "publish"], ["", "private"], ["dome", "publish"]])
        with opened(self.home, self.home.read("autumn")) as crew:
            said = prepare(crew).plan.selection.warnings
            self.assertEqual(len([w for w in said if "open to those who are kept from it now" in w]), 2)
            self.assertIn("page/plans would be open to those who are kept from it now",
                          prepare(crew, Choice(("page/plans",))).plan.selection.warnings)
        self.merge("page/plans")
        self.assertEqual(self.ask(self.live, told)[:2], [["", "publish"], ["", "private"]])

    def test_accounts_go_home_only_when_they_are_named(self) -> None:
        self.ask(self.live, "wp_insert_user(['user_login' => 'ed', 'user_pass' => 'old', 'role' => 'editor', "
                            "'user_email' => 'ed@ridge.example']); set_transient('cart_9', ['ware' => 3], 9999);")
        staging = self.clone()
        self.ask(staging, """
            $ed = get_user_by('login', 'ed'); wp_set_password('tried', $ed->ID); $ed->set_role('administrator');
            wp_update_user(['ID' => $ed->ID, 'display_name' => 'Edda']);
            $new = wp_insert_user(['user_login' => 'trial', 'user_pass' => 'x', 'role' => 'administrator',
              'user_email' => 'trial@ridge.example']);
            page('Plain'); page('By trial', ['post_author' => $new]);""")
        _, left = self.merge()
        state = ("$ed = get_user_by('login', 'ed'); echo json_encode([wp_check_password('old', $ed->user_pass), "
                 "$ed->roles, (bool) get_user_by('login', 'trial'), (bool) get_page_by_path('plain'), "
                 "(bool) get_page_by_path('by-trial'), get_transient('cart_9')]);")
        self.assertEqual(self.ask(self.live, state), [True, ["editor"], False, True, False, {"ware": 3}])
        self.assertEqual({n: left[n] for n in ("user/ed", "user/trial", "page/by-trial")},
                         dict.fromkeys(("user/ed", "user/trial", "page/by-trial"), "homeward"))
        with opened(self.home, self.home.read("autumn")) as crew:
            prepared = prepare(crew, Choice(("page/*", "user/ed")))
        told = prepared.plan.selection
        named = [f.name for f in next(i for i in told.items if i.id == "user/ed").fields]
        self.assertIn("meta capabilities.administrator", named)
        self.assertFalse([n for n in named if "\ufdd0" in n])
        self.assertIn("user/ed gets administrator rights", told.warnings)
        self.assertTrue(any(w.startswith("page/by-trial stays, for it needs user/trial") for w in told.warnings))
        self.merge("page/by-trial", "user/trial")
        said = self.ask(self.live, "$p = get_page_by_path('by-trial'); echo json_encode([get_userdata("
                                   "$p->post_author)->user_login, get_user_by('login', 'ed')->roles]);")
        self.assertEqual(said, ["trial", ["editor"]])

    def test_what_is_under_way_stays_and_styles_merge_key_by_key(self) -> None:
        self.ask(self.live, """$styles = json_encode(['settings' => ['color' => 'a'], 'styles' => ['font' => 'a']]);
            wp_insert_post(['post_type' => 'wp_global_styles', 'post_status' => 'publish', 'post_title' => 'Styles',
              'post_name' => 'wp-global-styles-x', 'post_content' => wp_slash($styles)]);""")
        staging = self.clone()
        change = ("$p = get_page_by_path('wp-global-styles-x', OBJECT, 'wp_global_styles'); $c = json_decode("
                  "$p->post_content, true); {} wp_update_post(['ID' => $p->ID, 'post_content' => wp_slash("
                  "json_encode($c))]);")
        self.ask(staging, change.format("$c['styles']['font'] = 's';") + """
            foreach (['customize_changeset', 'oembed_cache', 'user_request'] as $type)
              wp_insert_post(['post_type' => $type, 'post_title' => "Tried $type", 'post_status' => 'publish']);
            foreach (['dusk', 'dawn'] as $theme) { $id = wp_insert_post(['post_type' => 'wp_template', 'post_title' =>
              "Home of $theme", 'post_name' => 'home', 'post_status' => 'publish', 'post_content' => $theme]);
              wp_set_object_terms($id, $theme, 'wp_theme'); $wpdb->update($wpdb->posts, ['post_name' => 'home'],
              ['ID' => $id]); }
            wp_insert_post(['post_title' => 'Later', 'post_status' => 'future', 'post_date' => '2031-01-01 10:00:00']);
            wp_schedule_single_event(2000000000, 'trial', [7]);""")
        self.ask(self.live, change.format("$c['settings']['color'] = 'l';") + """
            wp_schedule_single_event(1999999999, 'own', [7]); $id = wp_insert_post(['post_type' => 'wp_template',
              'post_title' => 'Home of dusk', 'post_name' => 'home', 'post_status' => 'publish', 'post_content' =>
              'dusk']); wp_set_object_terms($id, 'dusk', 'wp_theme');""")
        self.merge()
        jobs = """$p = get_posts(['title' => 'Later', 'post_status' => 'future'])[0] ?? null; echo json_encode([$p ?
            wp_next_scheduled('publish_future_post', [$p->ID]) : null, wp_next_scheduled('own', [7]),
            wp_next_scheduled('trial', [7]), array_map(fn($t) => $t->post_content, get_posts(['post_type' =>
            'wp_template', 'orderby' => 'title', 'order' => 'asc', 'posts_per_page' => -1])),
            substr_count(serialize(_get_cron_array()), 'publish_future')]);"""
        self.assertEqual(self.ask(self.live, jobs), [1925028000, 1999999999, False, ["dawn", "dusk"], 1])
        said = self.ask(self.live, """global $wpdb;
            $p = get_page_by_path('wp-global-styles-x', OBJECT, 'wp_global_styles');
            echo json_encode([json_decode($p->post_content, true), $wpdb->get_var(
              "SELECT count(*) FROM $wpdb->posts WHERE post_title LIKE 'Tried%'")]);""")
        self.assertEqual(said, [{"settings": {"color": "l"}, "styles": {"font": "s"}}, "0"])
        with opened(self.home, self.home.read("autumn")) as crew:
            merge(self.home, crew, prepare_undo(self.home, crew, to_take_back(self.home, "autumn", None)))
        self.assertEqual(self.ask(self.live, jobs), [None, 1999999999, False, ["dusk"], 0])

    def test_an_update_of_the_core_is_one_thing(self) -> None:
        staging = self.clone()
        version = staging.folder / "wp-includes/version.php"
        version.write_text(version.read_text().replace("$wp_version = '", "$wp_version = '9"))
        for path in ("wp-admin/about.php", "wp-login.php"):
            (staging.folder / path).write_text((staging.folder / path).read_text() + "// newer\n")
        (staging.folder / "wp-own.txt").write_text("own")
        with opened(self.home, self.home.read("autumn")) as crew:
            with self.assertRaisesRegex(SelectionError, "part of the same update"):
                prepare(crew, Choice(("core/wp-includes",), ("file/wp-login.php",)))
            going = {i.id for i in prepare(crew, Choice(("core/wp-admin",))).plan.selection.items}
        self.assertEqual(going, {"core/wp-admin", "core/wp-includes", "file/wp-login.php"})
        (self.live.folder / "wp-login.php").write_text("<?php // live's own")
        self.assertEqual({i: s for i, s in self.standings().items() if s == "clash"},
                         dict.fromkeys(going, "clash"))

    def test_one_person_is_one_account(self) -> None:
        staging = self.clone()
        new = ("wp_insert_user(['user_login' => '{}', 'user_pass' => 'x', 'role' => '{}', 'user_email' => "
               "'{}@ridge.example']);")
        self.ask(self.live, new.format("pat", "subscriber", "pat") + new.format("ines", "subscriber", "shared"))
        self.ask(staging, new.format("pat", "author", "pat") + new.format("other", "author", "shared"))
        found = self.standings()
        self.assertEqual(len([n for n in found if n.endswith(("/pat", "/pat~staging", "/pat~live"))]), 1)
        with opened(self.home, self.home.read("autumn")) as crew:
            other = compare_voyage(crew)[0].items["user/other"]
        self.assertEqual(str(other.standing), "clash")
        self.assertIn("with the same user_email", other.reason)

    def test_what_was_trashed_waits_for_its_comments(self) -> None:
        self.ask(self.live, "page('Read'); page('Unread');")
        staging = self.clone()
        self.ask(staging, "foreach (['read', 'unread'] as $p) wp_trash_post(get_page_by_path($p)->ID);")
        self.ask(self.live, "wp_insert_comment(['comment_post_ID' => get_page_by_path('read')->ID, 'comment_author' => "
                            "'y', 'comment_content' => 'still reading', 'comment_approved' => 1]);")
        self.merge()
        self.assertEqual(self.ask(self.live, "echo json_encode([get_page_by_path('read')->post_status, (bool) "
                                             "get_page_by_path('unread')]);"), ["publish", False])
        with opened(self.home, self.home.read("autumn")) as crew:
            reasons = [i.reason for i in compare_voyage(crew)[0].items.values() if i.reason]
        self.assertTrue(any("live has built on it since: comment/" in r for r in reasons), reasons)
    def test_a_configuration_that_puts_folders_elsewhere(self) -> None:
        folder = self.live.folder
        (folder / "wp-content").rename(folder / "app")
        config = folder / "wp-config.php"
        settings = "require_once ABSPATH . 'wp-settings.php';"
        own = config.read_text()
        (folder / "local.php").write_text(
            f"<?php\ndefine('WP_HOME', '{self.live.url}');\ndefine( 'WP_CONTENT_URL', '{self.live.url}/app' );\n"
            f"define('WPMU_PLUGIN_DIR', WP_CONTENT_DIR . '/must');\n"
            f"define('WPMU_PLUGIN_URL', \"{self.live.url}/must\");\n"
            "define('WP_CACHE_KEY_SALT', 'ridge:');\ndefine('COOKIE_DOMAIN', 'ridge.example');\n"
            f"define('RIDGE_EXPORTS', '{folder}/app/exports');\n")
        config.write_text(own.replace(settings, "define('WP_CONTENT_DIR', __DIR__ . '/app');\n"
                                                "require __DIR__ . '/local.php';\n" + settings))
        staging = self.clone()
        asked = ("require_once ABSPATH . 'wp-admin/includes/image.php'; $up = wp_upload_bits('own.txt', null, 'x');"
                 "echo json_encode([WP_CONTENT_DIR, WP_CONTENT_URL, WPMU_PLUGIN_DIR, WPMU_PLUGIN_URL, RIDGE_EXPORTS, "
                 "home_url(), $up['file'], WP_CACHE_KEY_SALT, COOKIE_DOMAIN, get_option('blog_public')]);")
        where = str(staging.folder)
        said = self.ask(staging, asked)
        self.assertEqual(said[:6], [f"{where}/app", f"{staging.url}/app", f"{where}/app/must", f"{staging.url}/must",
                                    f"{where}/app/exports", staging.url])
        self.assertTrue(said[6].startswith(f"{where}/app/uploads/"))
        self.assertEqual(said[7:], [staging.url, "127.0.0.1", 0])
        self.assertTrue((staging.folder / "app/must/nostos-guards.php").is_file())
        self.ask(staging, "set_post_thumbnail(page('Own'), picture('own', 30));")
        self.merge()
        self.assertTrue(self.ask(self.live, "echo json_encode(file_exists(get_attached_file(get_post_thumbnail_id("
                                            "get_page_by_path('own')))));"))
        self.assertFalse(self.standings().get("file/local.php"))
        for wrong in ("'/srv/elsewhere'", "getenv('CONTENT')", "strrev('ppa')"):
            config.write_text(own.replace(settings, f"define('WP_CONTENT_DIR', {wrong});\n" + settings))
            with self.assertRaisesRegex(SiteError, "outside the site's folder|works WP_CONTENT_DIR out"):
                clone(self.home, folder, "second", self.folder / "second", "http://127.0.0.1:8499")

    def test_two_of_one_name(self) -> None:
        """Both sides put up another picture under one name, and made things that answer to one address."""
        staging = self.clone()
        made = """$p = picture('comet κ', {0}); $m = wp_get_attachment_image_src($p, 'medium')[0];
            set_post_thumbnail(page('Show', ['post_name' => '{1}', 'post_content' => '<img src="' . $m . '" class='
            . '"wp-image-' . $p . '"> <a href="' . home_url('/{1}/') . '">' . rawurlencode($m) . '</a>']), $p);"""
        self.ask(self.live, made.format(40, "of-live") + "page('Moon');")
        self.ask(staging, made.format(90, "of-staging") + """wp_insert_post(['post_title' => 'Moon', 'post_status' =>
            'publish']); page('Link', ['post_content' => home_url('/moon/') . ' ' . home_url('/moonlight/')]);""")
        seen = """$seen = function ($slug) { $page = get_page_by_path($slug); $id = get_post_thumbnail_id($page->ID);
            $file = get_attached_file($id); $meta = wp_get_attachment_metadata($id);
            $sizes = array_column($meta['sizes'], 'file'); $text = $page->post_content;
            return [(imagecolorat(imagecreatefrompng($file), 5, 5) >> 16) & 255, basename($meta['file']),
              urldecode(get_post($id)->post_name), count(array_filter($sizes, fn($s) => file_exists(dirname($file)
              . "/$s"))), substr_count($text, $sizes[0]), substr_count($text, rawurlencode($sizes[0]))]; };"""
        both = seen + "echo json_encode([$seen('of-live'), $seen('of-staging')]);"
        self.merge()
        first, second = [40, "comet-κ.png", "comet-κ", 3, 1, 1], [90, "comet-κ-1.png", "comet-κ-2", 3, 1, 1]
        self.assertEqual(self.ask(self.live, both), [first, second])
        said = self.ask(self.live, """echo json_encode([get_page_by_path('moon-2', OBJECT, 'post')->post_title,
            str_replace(home_url(), '', get_page_by_path('link')->post_content)]);""")
        self.assertEqual(said, ["Moon", "/moon-2/ /moonlight/"])
        with opened(self.home, self.home.read("autumn")) as crew:
            prepared = prepare(crew, Choice(everyone=True), toward=Side.STAGING)
            self.assertIn("picture/comet-κ comes as comet-κ-1.png, for staging has another comet-κ.png",
                          prepared.plan.selection.warnings)
            merge(self.home, crew, prepared)
        self.assertEqual((self.standings(), self.ask(staging, both)), ({}, [[40, *second[1:]], [90, *first[1:]]]))

    def test_files_that_speak_of_their_site(self) -> None:
        """They are in the copy's own words, go home in live's, and what is written in no known way is told."""
        rules = ("RewriteEngine On\nRewriteBase {0}/\nRewriteRule ^index\\.php$ - [L]\n"
                 "RewriteRule . {0}/index.php [L]\nErrorDocument 404 {0}/gone.html\nRedirect 301 {0}/old {0}/new\n")
        (self.live.folder / ".htaccess").write_text(rules.format("") + f"# {self.live.folder}/x {self.live.url}/y\n")
        styles = "wp-content/uploads/made.css"
        (self.live.folder / styles).write_text(f"a {{ background: url({self.live.url}/dome.png) }}\n")
        (self.live.folder / "wp-content/log.txt").write_text(f"at {self.live.folder}/x\n")
        self.ask(self.live, "add_option('odd', str_replace(':', '%253A', home_url()));")
        url = "http://127.0.0.1:8499/below"
        made = clone(self.home, self.live.folder, "autumn", self.folder / "staging", url)
        self.assertEqual([left.place for left in made.left], ["options.option_value", "wp-content/log.txt"])
        staging, own = self.folder / "staging", self.folder / "staging/.htaccess"
        self.assertEqual(own.read_text(), rules.format("/below") + f"# {staging}/x {url}/y\n")
        self.assertEqual((staging / styles).read_text(), f"a {{ background: url({url}/dome.png) }}\n")
        self.assertEqual(self.standings(), {})
        own.write_text(own.read_text().replace("# ", f"# saved, {url}/p "))
        (staging / styles).write_text(f"b {{ background: url({url}/new.png) }}\n")
        (self.live.folder / "wp-content/uploads/lives.css").write_text(f"{self.live.url}/c\n")
        with opened(self.home, self.home.read("autumn")) as crew:
            told = " ".join(prepare(crew).plan.selection.warnings)
        self.assertIn("file/.htaccess: the web server obeys .htaccess", told)
        self.merge()
        self.assertEqual((self.live.folder / ".htaccess").read_text(), rules.format("")
                         + f"# saved, {self.live.url}/p {self.live.folder}/x {self.live.url}/y\n")
        self.assertEqual((self.live.folder / styles).read_text(), f"b {{ background: url({self.live.url}/new.png) }}\n")
        with opened(self.home, self.home.read("autumn")) as crew:
            merge(self.home, crew, prepare(crew, Choice(everyone=True), toward=Side.STAGING))
        self.assertEqual((staging / "wp-content/uploads/lives.css").read_text(), f"{url}/c\n")
        self.assertEqual(self.standings(), {})
        (staging / "wp-content/uploads/note.txt").write_text(f"see {url.upper()}/X\n")
        with opened(self.home, self.home.read("autumn")) as crew:
            with self.assertRaisesRegex(MergeRefused, "still speak of staging, such as wp-content/uploads/note.txt"):
                merge(self.home, crew, prepare(crew))
            merge(self.home, crew, prepare(crew, Choice(as_written=True)))

    def test_what_is_put_aside_comes_back_whole(self) -> None:
        """Pages with their comments; an edited picture, and one that is deleted, with every file of theirs."""
        self.ask(self.live, """foreach (['a', 'b'] as $slug) wp_insert_comment(['comment_post_ID' =>
              page($slug), 'comment_content' => 'c', 'comment_approved' => 1]);
            wp_trash_post(get_page_by_path('a')->ID); update_option('-odd', 'a'); update_option('|odd', 'a');""")
        staging = self.clone()
        uploads = self.live.folder / "wp-content/uploads"

        def files() -> dict[str, bytes]:
            return {str(p): p.read_bytes() for p in uploads.rglob("*") if p.is_file()}

        def there() -> Any:
            return self.ask(self.live, """global $wpdb; echo json_encode([$wpdb->get_results("SELECT ID, post_name,
                post_status FROM $wpdb->posts ORDER BY ID"), $wpdb->get_results("SELECT comment_post_ID,
                comment_approved FROM $wpdb->comments"), $wpdb->get_results("SELECT * FROM $wpdb->postmeta WHERE
                meta_key LIKE '\\_wp\\_att%' ORDER BY post_id, meta_key"), get_option('-odd'), get_option('|odd')]);""")

        before = files(), there()
        self.ask(staging, """require_once ABSPATH . 'wp-admin/includes/image-edit.php'; wp_set_current_user(1);
            $a = get_posts(['post_status' => 'trash', 'post_type' => 'page'])[0]->ID; wp_untrash_post($a);
            wp_publish_post($a); wp_trash_post(get_page_by_path('b')->ID); update_option('-odd', 's');
            update_option('|odd', 's'); $_REQUEST = ['history' => wp_slash('[{"r":90}]'), 'target' => 'all',
            'do' => 'save', 'context' => '']; wp_save_image(get_post_thumbnail_id(get_page_by_path('programme')));""")
        self.assertIn("page/b", self.standings())
        self.merge("page/a", "page/b", "picture/dome", "setting/-odd", "setting/|odd")
        self.assertEqual(self.standings(), {})
        pages = {p["post_name"]: (p["ID"], p["post_status"]) for p in there()[0]}
        comments = {c["comment_post_ID"]: c["comment_approved"] for c in there()[1]}
        self.assertEqual([(pages[n][1], comments[pages[n][0]]) for n in ("a", "b__trashed")],
                         [("publish", "1"), ("trash", "post-trashed")])
        self.assertEqual(len(files()), len(before[0]) + 3)
        edited = files(), there()
        self.ask(staging, "wp_delete_attachment(get_post_thumbnail_id(get_page_by_path('programme')), true);")
        self.merge()
        self.assertEqual(files(), {})
        for state in (edited, before):
            with opened(self.home, self.home.read("autumn")) as crew:
                merge(self.home, crew, prepare_undo(self.home, crew, to_take_back(self.home, "autumn", None)))
            self.assertEqual((files(), there()), state)

    def test_a_prefix_that_begins_with_lives_own(self) -> None:
        """The first thing that people write where there is one database only: each site's tables are told apart."""
        name = str(recognise(self.live.folder).database.url.database)
        tables = "SELECT table_name FROM information_schema.tables WHERE table_schema = %s AND table_name LIKE %s"

        def there(prefix: str) -> list[Any]:
            return sorted(mariadb().run(tables, name, prefix.replace("_", "\\_") + "%"))

        before = there("kr_")
        staging = self.clone(prefix="kr_s_")
        second = clone(self.home, self.live.folder, "second", self.folder / "second", "http://127.0.0.1:8498",
                       CloneOptions(prefix="kr_s_t_"))
        self.assertEqual(second.tables, len(before))
        self.ask(staging, "page('Own');")
        self.assertEqual(set(self.standings()), {"page/own"})
        self.merge()
        self.assertEqual(len(there("kr_s_t_")), len(before) + 1)
        for voyage in ("second", "autumn"):
            self.assertEqual(remove(self.home, self.home.read(voyage)), [])
        self.assertEqual(there("kr_s_"), [])
        self.assertEqual([n for n in there("kr_") if "nostos" not in n[0]], before)

    def test_widgets_that_both_sides_added(self) -> None:
        """The system gives them one number on both sides. Both stay, in live's order and in staging's."""
        staging = self.clone()
        add = """$w = get_option('widget_block'); $n = max(array_filter(array_keys($w), 'is_int')) + 1;
            $w[$n] = ['content' => '{0}']; update_option('widget_block', $w); $s = get_option('sidebars_widgets');
            $s['sidebar-1'][] = "block-$n"; update_option('sidebars_widgets', $s);"""
        for site, word in ((self.live, "live"), (staging, "staging")):
            self.ask(site, add.format(word + " one") + add.format(word + " two"))
        shown = """$w = get_option('widget_block'); echo json_encode(array_map(
            fn($b) => $w[(int) substr($b, 6)]['content'],
            array_slice(get_option('sidebars_widgets')['sidebar-1'], -4)));"""
        self.merge()
        words = ["live one", "live two", "staging one", "staging two"]
        self.assertEqual(sorted(self.ask(self.live, shown)), words)
        with opened(self.home, self.home.read("autumn")) as crew:
            merge(self.home, crew, prepare(crew, Choice(everyone=True), toward=Side.STAGING))
        self.assertEqual((self.standings(), sorted(self.ask(staging, shown))), ({}, words))
        self.ask(staging, "$w = get_option('widget_block'); foreach ($w as &$b) if (($b['content'] ?? '') == "
                          "'staging two') $b['content'] = 'staging too'; update_option('widget_block', $w);")
        self.merge()
        self.assertEqual(sorted(self.ask(self.live, shown))[3], "staging too")

    def test_a_menu_that_both_sides_saved(self) -> None:
        add = """$m = wp_get_nav_menu_object('Main') ?: get_term(wp_create_nav_menu('Main')); foreach ([%s] as $t) {
            $p = wp_insert_post(['post_type' => 'page', 'post_title' => $t, 'post_status' => 'publish']);
            wp_update_nav_menu_item($m->term_id, 0, ['menu-item-object-id' => $p, 'menu-item-object' => 'page',
              'menu-item-type' => 'post_type', 'menu-item-status' => 'publish']); }
            foreach (wp_get_nav_menu_items($m->term_id) as $n => $i) wp_update_nav_menu_item($m->term_id, $i->ID, [
              'menu-item-object-id' => $i->object_id, 'menu-item-object' => $i->object, 'menu-item-position' => $n + 1,
              'menu-item-type' => $i->type, 'menu-item-status' => 'publish']);"""
        self.ask(self.live, add % "'One', 'Two'")
        staging = self.clone()
        time.sleep(1.1)  # each saving takes down its own second
        self.ask(staging, add % "'Staged'")
        time.sleep(1.1)
        self.ask(self.live, add % "'Lived'")
        self.assertNotIn("clash", self.standings().values())
        self.merge()
        self.assertEqual(self.ask(self.live, """echo json_encode(array_map(fn($i) => $i->title,
            wp_get_nav_menu_items('Main')));"""), ["Programme", "One", "Two", "Lived", "Staged"])

    def test_pictures_that_lie_elsewhere(self) -> None:
        """The uploads folder is a link, as to another disk, and counts as a folder; other links when they are named."""
        uploads, disk, other = self.live.folder / "wp-content/uploads", self.folder / "disk", self.folder / "other"
        uploads.rename(disk)
        uploads.symlink_to(disk)
        other.mkdir()
        (other / "paper.pdf").write_bytes(b"%PDF")
        (self.live.folder / "papers").symlink_to(other)
        made = clone(self.home, self.live.folder, "first", self.folder / "first", "http://127.0.0.1:8498")
        self.assertEqual([p.path for p in made.passed], ["papers"])
        staging = self.clone(follow_links=["papers"])
        self.assertEqual((staging.folder / "papers/paper.pdf").read_bytes(), b"%PDF")
        self.ask(staging, "set_post_thumbnail(page('Own'), picture('own', 30));")
        (staging.folder / "papers/paper.pdf").write_bytes(b"%PDF 2")
        self.merge()
        self.assertEqual((other / "paper.pdf").read_bytes(), b"%PDF 2")
        self.assertTrue(uploads.is_symlink() and list(disk.glob("*/*/own.png")))
        self.assertEqual(self.standings(), {})
        uploads.unlink()
        uploads.symlink_to("/etc")
        with self.assertRaisesRegex(SiteError, "leads elsewhere now"):
            self.standings()

    def test_a_copy_that_would_act_on_live_is_taken_away(self) -> None:
        """The system itself is asked: what its configuration works out by itself shows there."""
        config = self.live.folder / "wp-config.php"
        own = config.read_text()
        config.write_text(own.replace("$table_prefix", f"$upload = strrev('{str(self.live.folder)[::-1]}');\n"
                                                       "$table_prefix"))
        (self.live.folder / "wp-content/mu-plugins").mkdir(exist_ok=True)
        (self.live.folder / "wp-content/mu-plugins/own.php").write_text(
            "<?php add_filter('upload_dir', function ($d) { $d['basedir'] = $GLOBALS['upload'] . '/wp-content/uploads';"
            " return $d; });")
        with self.assertRaisesRegex(SiteError, "would act on another site: it uses the folder"):
            self.clone()
        self.assertEqual((self.home.names(), (self.folder / "staging").exists()), ([], False))
        config.write_text(own)
        (self.live.folder / "wp-content/mu-plugins/own.php").unlink()
        asked = clone(self.home, self.live.folder, "autumn", self.folder / "staging", "http://127.0.0.1:8499")
        self.assertEqual(asked.unasked, "")


if __name__ == "__main__":
    unittest.main()
