<?php
// Everything that the system's own screens offer, by the functions and the interface that its screens call. Prints how
// many of them were used; ends with what was refused.

require_once ABSPATH . 'wp-admin/includes/admin.php';
wp_set_current_user(1);
$sent = 0;

function sent($answer, $what) {
  global $sent;
  if (is_wp_error($answer)) throw new Exception("$what: " . $answer->get_error_message());
  $sent++;
  return $answer;
}

function rest($method, $route, $given = [], $file = null) {
  $request = new WP_REST_Request($method, "/wp/v2$route");
  $request->set_body_params($given);
  if ($method !== 'GET') $request->set_query_params(array_intersect_key($given, ['force' => 1]));
  if ($file) { $request->set_body($file[1]); $request->set_headers(['Content-Disposition' => "attachment; filename=$file[0]",
    'Content-Type' => $file[2]]); foreach ($given as $k => $v) $request->set_param($k, $v); }
  $answer = rest_do_request($request);
  if ($answer->is_error()) throw new Exception("$method $route: " . json_encode($answer->get_data()));
  sent($answer, $route);
  return $answer->get_data();
}

function drawn($red, $wide = 60) {
  $image = imagecreatetruecolor($wide, 40); imagefill($image, 0, 0, imagecolorallocate($image, $red, 80, 120));
  ob_start(); imagepng($image); return ob_get_clean();
}

function option_screen($values) { foreach ($values as $name => $value) { update_option($name, $value); sent(true, $name); } }

// Settings, each screen of them.
option_screen(['blogname' => 'Ridge', 'blogdescription' => 'Open at 8', 'gmt_offset' => 2, 'start_of_week' => 3,
  'date_format' => 'j F Y', 'time_format' => 'H:i', 'default_pingback_flag' => 0, 'default_comment_status' => 'closed',
  'posts_per_page' => 12, 'posts_per_rss' => 11, 'rss_use_excerpt' => 1, 'comments_per_page' => 20, 'page_comments' => 1,
  'close_comments_for_old_posts' => 1, 'close_comments_days_old' => 15, 'thread_comments_depth' => 4,
  'comment_max_links' => 5, 'moderation_keys' => "21\nspam", 'large_size_w' => 51, 'large_size_h' => 50,
  'medium_size_w' => 30, 'medium_size_h' => 31, 'thumbnail_size_w' => 15, 'thumbnail_size_h' => 16, 'thumbnail_crop' => 0,
  'show_avatars' => 1, 'avatar_rating' => 'PG', 'mailserver_port' => 25, 'permalink_structure' => '/%year%/%postname%/',
  'category_base' => 'topic', 'tag_base' => 'word']);
rest('POST', '/settings', ['title' => 'Ridge and hut', 'posts_per_page' => 9]);

// Pictures and other files.
for ($n = 0; $n < 5; $n++)
  $files[$n] = rest('POST', '/media', ['title' => "Photo $n", 'alt_text' => "$n of 5", 'caption' => "At $n"],
    ["photo$n.png", drawn(40 + $n), 'image/png'])['id'];
$paper = rest('POST', '/media', ['title' => 'Paper'], ['paper.txt', 'Open at 21', 'text/plain'])['id'];
rest('POST', "/media/$files[0]", ['title' => 'Photo renamed', 'description' => 'Page 3']);
rest('POST', "/media/$files[1]/edit", ['src' => wp_get_attachment_url($files[1]), 'rotation' => 90]);
rest('DELETE', "/media/$files[4]", ['force' => true]);

// Words.
for ($n = 0; $n < 4; $n++) $topics[$n] = rest('POST', '/categories', ['name' => "Topic $n", 'description' => "No. $n"])['id'];
rest('POST', "/categories/$topics[1]", ['parent' => $topics[0], 'name' => 'Topic below']);
rest('DELETE', "/categories/$topics[3]", ['force' => true]);
for ($n = 0; $n < 4; $n++) $words[$n] = rest('POST', '/tags', ['name' => "word $n"])['id'];
rest('POST', "/tags/$words[0]", ['slug' => 'word-21']);
rest('DELETE', "/tags/$words[3]", ['force' => true]);
update_option('default_category', $topics[0]);

// Reusable pieces, posts and pages.
$piece = rest('POST', '/blocks', ['title' => 'Hours', 'status' => 'publish',
  'content' => '<!-- wp:paragraph --><p>8 to 21</p><!-- /wp:paragraph -->'])['id'];
$image = "<!-- wp:image {\"id\":$files[2],\"sizeSlug\":\"large\"} --><figure class=\"wp-block-image\"><img src=\""
  . wp_get_attachment_url($files[2]) . "\" class=\"wp-image-$files[2]\"/></figure><!-- /wp:image -->";
$body = "<!-- wp:heading {\"level\":3} --><h3>At 3</h3><!-- /wp:heading -->$image"
  . "<!-- wp:gallery {\"ids\":[$files[0],$files[1]],\"columns\":2} --><figure class=\"wp-block-gallery columns-2\"></figure>"
  . "<!-- /wp:gallery --><!-- wp:block {\"ref\":$piece} /--><!-- wp:latest-posts {\"postsToShow\":4,\"categories\":"
  . "[{\"id\":$topics[0],\"value\":\"Topic 0\"}]} /--><!-- wp:file {\"id\":$paper} --><div class=\"wp-block-file\"></div>"
  . "<!-- /wp:file --><!-- wp:columns {\"columns\":2} --><div>20 chairs</div><!-- /wp:columns -->"
  . "<!-- wp:query {\"queryId\":4,\"query\":{\"perPage\":3,\"pages\":0,\"offset\":0,\"exclude\":[$paper],\"taxQuery\":{\"category\":"
  . "[$topics[1],$topics[0]],\"post_tag\":[$words[1]]},\"author\":\"1\"}} --><div>3</div><!-- /wp:query -->"
  . "[caption id=\"attachment_$files[2]\" width=\"60\"]At 3[/caption] [playlist ids=\"$files[0],$paper\"] [gallery include=\"$files[3]\"]"
  . "<!-- wp:table --><table><tr><td colspan=\"2\">10</td></tr></table><!-- /wp:table -->";
for ($n = 0; $n < 8; $n++)
  $written[$n] = rest('POST', '/posts', ['title' => "New $n", 'content' => $body, 'excerpt' => "$n of 8", 'status' => 'publish',
    'categories' => [$topics[$n % 3]], 'tags' => [$words[$n % 3]], 'featured_media' => $files[$n % 4], 'sticky' => $n == 2,
    'format' => 'aside', 'comment_status' => 'open'])['id'];
for ($n = 0; $n < 4; $n++)
  $leaves[$n] = rest('POST', '/pages', ['title' => "Page $n", 'content' => $image, 'status' => 'publish', 'menu_order' => $n,
    'parent' => $n ? $leaves[$n - 1] : 0, 'featured_media' => $files[0]])['id'];
foreach ([0, 1, 2] as $n) rest('POST', "/posts/$written[$n]", ['title' => "New $n, edited", 'content' => "$body<p>Since 21</p>"]);
foreach ([0, 2, 5, 6] as $n) rest('POST', "/posts/$written[$n]", ['tags' => [$words[1], $words[2]], 'sticky' => false]);
foreach ([0, 1, 2] as $n) rest('POST', "/media/$files[$n]", ['caption' => "Seen at $n", 'post' => $written[$n]]);
foreach ([0, 1] as $n) rest('POST', "/categories/$topics[$n]", ['description' => "3 of $n"]);
rest('POST', "/posts/$written[3]", ['status' => 'draft']);
rest('POST', "/posts/$written[4]", ['status' => 'future', 'date' => '2031-01-01T10:00:00']);
rest('POST', "/posts/$written[5]", ['password' => 'sky']);
rest('POST', "/posts/$written[6]", ['status' => 'private']);
rest('POST', "/posts/$written[1]/autosaves", ['title' => 'New 1, typed', 'content' => 'typed']);
rest('DELETE', "/posts/$written[7]");
wp_untrash_post(sent($written[7], 'restored'));
rest('POST', "/pages/$leaves[2]", ['parent' => $leaves[0], 'menu_order' => 5]);
rest('DELETE', "/pages/$leaves[3]");
rest('DELETE', "/pages/$leaves[3]", ['force' => true]);
foreach (wp_get_post_revisions($written[0]) as $was) { wp_restore_post_revision(sent($was->ID, 'revision')); break; }
$front = get_page_by_path('programme');
rest('POST', "/pages/$front->ID", ['content' => "<p>See <a href=\"" . get_permalink($written[0]) . "\">it</a></p>"]);
sent(wp_insert_post(['post_type' => 'custom_css', 'post_title' => get_stylesheet(), 'post_name' => get_stylesheet(),
  'post_status' => 'publish', 'post_content' => '.page-id-3 { margin: 21px }']), 'css');

// The look: menus, places of menus, widgets, templates, styles, the front page.
option_screen(['show_on_front' => 'page', 'page_on_front' => $leaves[0], 'page_for_posts' => $leaves[1],
  'site_icon' => $files[0], 'wp_page_for_privacy_policy' => $leaves[2]]);
set_theme_mod('custom_logo', sent($files[1], 'logo')); set_theme_mod('header_image_data', (object) ['attachment_id' => $files[2],
  'url' => wp_get_attachment_url($files[2]), 'width' => 60, 'height' => 40]);
$list = rest('POST', '/menus', ['name' => 'Below'])['id'];
foreach ([$written[0] => 'post', $leaves[0] => 'page'] as $id => $kind)
  $entries[] = rest('POST', '/menu-items', ['title' => "To $id", 'type' => 'post_type', 'object' => $kind, 'object_id' => $id,
    'menus' => $list, 'menu_order' => 1, 'status' => 'publish'])['id'];
$entries[] = rest('POST', '/menu-items', ['title' => 'Topic', 'type' => 'taxonomy', 'object' => 'category',
  'object_id' => $topics[0], 'menus' => $list, 'menu_order' => 2, 'parent' => $entries[0], 'status' => 'publish'])['id'];
$entries[] = rest('POST', '/menu-items', ['title' => 'Away', 'type' => 'custom', 'url' => 'https://elsewhere.example/21',
  'menus' => $list, 'menu_order' => 3, 'status' => 'publish'])['id'];
rest('POST', "/menu-items/$entries[1]", ['menu_order' => 7, 'parent' => $entries[0]]);
rest('DELETE', "/menu-items/$entries[3]", ['force' => true]);
set_theme_mod('header_video', sent($paper, 'video'));
set_theme_mod('nav_menu_locations', sent(['primary' => $list, 'footer' => $list], 'places'));
rest('POST', '/navigation', ['title' => 'Above', 'status' => 'publish', 'content' =>
  "<!-- wp:navigation-link {\"label\":\"Page\",\"type\":\"page\",\"id\":$leaves[0],\"url\":\"/x\",\"kind\":\"post-type\"} /-->"]);
rest('POST', '/templates/' . get_stylesheet() . '//index', ['content' =>
  "<!-- wp:template-part {\"slug\":\"header\",\"theme\":\"" . get_stylesheet() . "\"} /-->$image"]);
rest('POST', '/template-parts/' . get_stylesheet() . '//header', ['content' =>
  "<!-- wp:site-logo {\"width\":120} /--><!-- wp:navigation {\"ref\":$list} /-->"]);
$style = WP_Theme_JSON_Resolver::get_user_global_styles_post_id();
rest('POST', "/global-styles/$style", ['styles' => ['spacing' => ['blockGap' => '21px']], 'settings' => []]);
option_screen(['widget_text' => [2 => ['title' => 'Hours', 'text' => 'Open at 8', 'filter' => 1], '_multiwidget' => 1],
  'widget_recent-posts' => [2 => ['title' => 'News', 'number' => 5, 'show_date' => 1], '_multiwidget' => 1],
  'widget_nav_menu' => [3 => ['title' => 'Below', 'nav_menu' => $list], '_multiwidget' => 1],
  'widget_media_image' => [2 => ['attachment_id' => $files[0], 'url' => wp_get_attachment_url($files[0]), 'width' => 60,
    'height' => 40, 'size' => 'medium'], '_multiwidget' => 1],
  'widget_block' => [7 => ['content' => $image], '_multiwidget' => 1],
  'widget_tag_cloud' => [4 => ['title' => 'Words', 'count' => 1, 'taxonomy' => 'post_tag'], '_multiwidget' => 1],
  'widget_categories' => [5 => ['title' => 'Topics', 'count' => 1, 'hierarchical' => 1, 'dropdown' => 0],
    '_multiwidget' => 1],
  'widget_links' => [2 => ['category' => get_terms(['taxonomy' => 'link_category', 'hide_empty' => false])[0]->term_id ?? $topics[0],
    'images' => 1, 'limit' => 5], '_multiwidget' => 1],
  'nav_menu_options' => [0 => '', 'auto_add' => [$list]],
  'widget_archives' => [2 => ['title' => 'Before', 'count' => 1, 'dropdown' => 1], '_multiwidget' => 1],
  'widget_pages' => [2 => ['title' => 'All', 'sortby' => 'menu_order', 'exclude' => "$leaves[1],$leaves[2]"],
    '_multiwidget' => 1],
  'sidebars_widgets' => ['wp_inactive_widgets' => ['tag_cloud-4'], 'sidebar-1' => ['text-2', 'recent-posts-2', 'nav_menu-3',
    'media_image-2', 'block-7', 'categories-5', 'archives-2', 'pages-2'], 'array_version' => 3]]);
$changes = sent(wp_insert_post(['post_type' => 'customize_changeset', 'post_status' => 'draft', 'post_name' => wp_generate_uuid4(),
  'post_content' => json_encode(['blogname' => ['value' => 'Later', 'type' => 'option', 'user_id' => 1]])]), 'changes');

// What people do in between: links of old, who is looked at, what a screen remembers.
sent(wp_insert_link(['link_name' => 'Neighbours', 'link_url' => 'https://elsewhere.example/3', 'link_rating' => 3]), 'link');
flush_rewrite_rules();
echo json_encode($sent);
