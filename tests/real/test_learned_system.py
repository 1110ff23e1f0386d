"""The real PHP system with its profile taken away: what is learned of it, beside what the profile says."""

from __future__ import annotations

import unittest
from collections import Counter
from dataclasses import replace
from typing import Any

from nostos.core.anchor.names import Keys
from nostos.core.compare.joins import Joins
from nostos.core.compare.portable import Translator, named_rows
from nostos.core.database.protocol import Database
from nostos.core.database.schema import Table
from nostos.core.learning.findings import Certainty
from nostos.core.learning.learn import learn
from nostos.core.profiles.from_schema import NO_PROFILE, complete
from nostos.core.profiles.model import Profile
from nostos.core.profiles.parts import Reference
from nostos.core.sites.recognise import recognise
from nostos.core.values.urls import UrlForms
from tests.real.servers import missing
from tests.real.test_system import SystemTest

SEED = """
wp_suspend_cache_addition(true); $users = []; global $wpdb;
foreach (range(1, 9) as $n) $wpdb->insert($wpdb->terms, ['name' => "gone $n", 'slug' => "gone-$n"]);
foreach (range(1, 25) as $n) $users[] = wp_insert_user(['user_login' => "keeper$n", 'user_pass' => 'x',
  'user_email' => "k$n@kestrel-ridge.example", 'role' => 'editor']);
$pictures = []; foreach (range(1, 8) as $n) $pictures[] = picture("sky$n", $n * 9);
$terms = []; foreach (range(1, 12) as $n) { $t = wp_insert_term("Season $n", 'category',
  ['parent' => $n > 6 ? $terms[$n - 7] : 0]); $terms[] = $t['term_id']; add_term_meta($t['term_id'], 'hue', "h$n"); }
$pages = [];
foreach (range(1, 60) as $n) {
  $p = $pictures[$n % 8]; $q = $pictures[($n + 3) % 8]; $old = $pages ? $pages[intdiv($n, 2) % count($pages)] : 0;
  $body = "<!-- wp:image {\\"id\\":$p,\\"sizeSlug\\":\\"large\\"} -->\\n<figure><img class=\\"wp-image-$p\\" src=\\"/a$p.png\\"/></figure>"
    . "\\n<!-- /wp:image -->\\n<!-- wp:cover {\\"url\\":\\"/x\\",\\"id\\":$q} -->c<!-- /wp:cover -->\\n<!-- wp:media-text "
    . "{\\"mediaId\\":$p} -->m<!-- /wp:media-text -->\\n<!-- wp:gallery {\\"ids\\":[$p,$q]} -->g<!-- /wp:gallery -->\\n[gallery "
    . "ids=\\"$q,$p\\"]\\n<a rel=\\"attachment wp-att-$q\\" data-id=\\"$q\\" href=\\"/?p=$old\\">x</a>\\n<!-- wp:block "
    . "{\\"ref\\":" . ($old ?: $p) . "} /-->\\n<!-- wp:navigation-link {\\"kind\\":\\"post-type\\",\\"id\\":" . ($old ?: $p) . "} /-->"
    . "<!-- wp:navigation-link {\\"kind\\":\\"taxonomy\\",\\"id\\":" . $terms[$n % 12] . "} /--> <a href=\\"/?cat="
    . $terms[$n % 12] . "\\">c</a>";
  $id = wp_insert_post(['post_type' => $n % 3 ? 'post' : 'page', 'post_status' => 'publish', 'post_title' => "Sky $n",
    'post_content' => wp_slash($body), 'post_author' => $users[$n % 25], 'post_parent' => $n % 3 ? 0 : $pages[0] ?? 0,
    'post_category' => [$terms[$n % 12]]]);
  if (!($n % 3)) $pages[] = $id;
  set_post_thumbnail($id, $q); update_post_meta($id, '_edit_last', $users[$n % 20]);
  wp_save_post_revision($id); wp_update_post(['ID' => $id, 'post_excerpt' => "again $n"]);
  $c = 0; foreach (range(1, 3) as $m) $c = wp_insert_comment(['comment_post_ID' => $id, 'comment_content' => "c$m",
    'comment_parent' => $m > 1 ? $c : 0, 'user_id' => $m > 1 ? $users[$m] : 0, 'comment_author' => 'v',
    'comment_meta' => ['rated' => 'yes']]);
}
$menu = wp_create_nav_menu('Second'); $above = 0;
foreach (array_slice($pages, 0, 8) as $n => $page) $above = wp_update_nav_menu_item($menu, 0, ['menu-item-object' => 'page',
  'menu-item-object-id' => $page, 'menu-item-type' => 'post_type', 'menu-item-status' => 'publish',
  'menu-item-parent-id' => $n % 2 ? $above : 0]);
foreach (array_slice($terms, 0, 6) as $t) wp_update_nav_menu_item($menu, 0, ['menu-item-object' => 'category',
  'menu-item-object-id' => $t, 'menu-item-type' => 'taxonomy', 'menu-item-status' => 'publish']);
update_option('show_on_front', 'page'); update_option('page_on_front', $pages[2]);
update_option('page_for_posts', $pages[3]); update_option('site_icon', $pictures[2]);
update_option('site_logo', $pictures[3]); update_option('default_category', $terms[4]);
foreach (['link', 'email'] as $n => $what) update_option("default_{$what}_category", $terms[$n]);
update_option('wp_page_for_privacy_policy', $pages[4]); update_option('sticky_posts', array_slice($pages, 1, 4));
update_option('widget_nav_menu', [2 => ['nav_menu' => $menu], '_multiwidget' => 1]);
update_option('widget_media_image', [2 => ['attachment_id' => $pictures[1], 'url' => '/u'], '_multiwidget' => 1]);
update_option('widget_media_gallery', [2 => ['ids' => [$pictures[1], $pictures[4]]], '_multiwidget' => 1]);
update_option('widget_pages', [2 => ['exclude' => [$pages[3]]], '_multiwidget' => 1]);
set_theme_mod('nav_menu_locations', ['primary' => $menu, 'footer' => $menu]); set_theme_mod('custom_logo', $pictures[5]);
set_theme_mod('custom_css_post_id', $pages[6]);
set_theme_mod('header_image_data', (object) ['attachment_id' => $pictures[6], 'url' => '/h']);
"""  # noqa: E501


@unittest.skipIf(missing(), missing())
class Learned(SystemTest):
    def test_what_is_found_without_the_profile(self) -> None:
        self.ask(self.live, SEED)
        site = recognise(self.live.folder)
        database = site.open(readonly=True)
        self.addCleanup(database.close)
        tables = {n: t for n, t in database.tables().items() if t.key}
        told = complete(site.profile, tables)
        bare = complete(NO_PROFILE, tables)
        found_out = learn(database, tables, bare)
        learned = found_out.over(bare)
        # What is likelier than not, and likelier than all else, is what a question offers first.
        asked = replace(found_out, references=tuple(r for f in found_out.findings if f.certainty is Certainty.OPEN
                                                    and f.to for r in f.references))
        told_rows, learned_rows = (self.pointing(database, tables, p) for p in (told, learned))
        offered = self.pointing(database, tables, asked.over(bare))
        lines, found, right, all_of = [], 0, 0, 0
        for r in told.references:
            if not r.to or r.to_column:
                continue
            wanted = self.pointing(database, tables, replace(told, references=(r,)))
            if not wanted:
                continue
            there = sum(bool(wanted[place] & learned_rows.get(place, set())) for place in wanted)
            first = sum(bool(wanted[p] & (learned_rows.get(p) or offered.get(p, set()))) for p in wanted)
            all_of += 1
            found += there == len(wanted)
            right += first == len(wanted)
            lines.append(f"{r.column:18}{self.named(r):66}{r.to:15}{there:5} of {len(wanted)}, {first} as offered")
        wrong = Counter(
            (place[0], place[2], goal[0]) for place, goals in learned_rows.items() for goal in goals
            if goal not in told_rows.get(place, set()) and told_rows.get(place))
        print("\n" + "\n".join(sorted(lines)) + f"\n{found} of {all_of} sure, {right} offered; wrong: {dict(wrong)}")
        self.assertFalse(wrong)  # whatever is sure is right
        self.assertGreaterEqual(right, 0.65 * all_of)

    @staticmethod
    def named(r: Reference) -> str:
        inside = "/".join(r.path or ()) or (r.pattern or "")
        return f"{r.table} {', '.join(v for _, v in r.where)} {inside}"[:64]

    @staticmethod
    def pointing(database: Database, tables: dict[str, Table], profile: Profile) -> dict[Any, set[Any]]:
        """By table, row and column, the rows that it points at."""
        joins = Joins(profile, database, tables, database, lambda table, key: True)
        translator = Translator(profile, tables, UrlForms("http://none.example"), Keys({}, lambda table, key: True),
                                "kr_", joins)
        found: dict[Any, set[Any]] = {}
        for name, table in tables.items():
            for values in list(database.scan(table, table.stored)):
                row = dict(zip(table.stored, values, strict=True))
                full = translator.full(name, row)
                for column in table.stored:
                    goals = set(named_rows(translator.value(name, full, column)))
                    if goals:
                        found[name, table.key_of(row), column] = goals
        return found


if __name__ == "__main__":
    unittest.main()
