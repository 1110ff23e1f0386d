<?php
// What a site says of itself, by names and never by numbers: its posts of all kinds, words, settings, widgets and menus.

function post_named($id) { $post = get_post($id); return $post ? "$post->post_type $post->post_title" : "nothing"; }
function term_named($id) { $term = get_term($id); return $term && !is_wp_error($term) ? "$term->taxonomy $term->name" : "nothing"; }

function sorted($value) { if (is_array($value)) ksort($value); return $value; }

function said($text) {
  $text = preg_replace_callback('/(wp-image-|"ref":|wp:(?:image|file) \{"id":|"type":"page","id":|[?&](?:p|page_id)=|page-id-|attachment_|include=")(\d+)/',
    fn($m) => $m[1] . '<' . post_named($m[2]) . '>', $text);
  $text = preg_replace_callback('/"ids":\[([\d,]+)\]/', fn($m) => '"ids":[' . implode(',', array_map('post_named',
    explode(',', $m[1]))) . ']', $text);
  $text = preg_replace_callback('/((?:"exclude":\[)|\[playlist ids=")([\d,]+)/', fn($m) => $m[1] . implode(',', array_map('post_named',
    explode(',', $m[2]))), $text);
  $text = preg_replace_callback('/("(?:category|post_tag)":\[)([\d,]+)/', fn($m) => $m[1] . implode(',', array_map('term_named',
    explode(',', $m[2]))), $text);
  return preg_replace_callback('/"categories":\[\{"id":(\d+)/', fn($m) => '"categories":[{"id":<' . term_named($m[1]) . '>', $text);
}

global $wpdb;
$told = [];
foreach (get_posts(['post_type' => array_keys(get_post_types()), 'post_status' => 'any', 'numberposts' => -1]) as $post) {
  if (wp_is_post_autosave($post)) continue; // what somebody has not saved yet is theirs
  if ($post->post_type == 'customize_changeset' || $post->post_status == 'auto-draft') continue;
  $file = get_post_meta($post->ID, '_wp_attached_file', true);
  $item = $post->post_type != 'nav_menu_item' ? '' : (get_post_meta($post->ID, '_menu_item_type', true) == 'taxonomy' ?
    term_named(get_post_meta($post->ID, '_menu_item_object_id', true)) : (
    get_post_meta($post->ID, '_menu_item_type', true) == 'custom' ? get_post_meta($post->ID, '_menu_item_url', true) :
    post_named(get_post_meta($post->ID, '_menu_item_object_id', true)))) . ' below ' . post_named(
    get_post_meta($post->ID, '_menu_item_menu_item_parent', true));
  $told['posts'][] = json_encode([$post->post_type, $post->post_title, $post->post_status, $post->menu_order,
    $post->post_parent ? post_named($post->post_parent) : '', said($post->post_content), $post->post_excerpt,
    $post->post_password, array_map('term_named', wp_list_pluck(wp_get_object_terms($post->ID, get_object_taxonomies($post)),
      'term_id')), post_named(get_post_thumbnail_id($post->ID) ?: -1), $file ? [$file, file_exists(get_attached_file($post->ID)),
      get_post_meta($post->ID, '_wp_attachment_image_alt', true)] : '', $item, is_sticky($post->ID)]);
}
foreach (get_terms(['taxonomy' => array_keys(get_taxonomies()), 'hide_empty' => false]) as $term)
  $told['terms'][] = json_encode([$term->taxonomy, $term->name, $term->slug, $term->description, $term->count,
    $term->parent ? term_named($term->parent) : '']);
foreach (['blogname', 'posts_per_page', 'comments_per_page', 'close_comments_days_old', 'large_size_w', 'permalink_structure',
  'moderation_keys', 'widget_text', 'widget_recent-posts', 'widget_categories', 'sidebars_widgets'] as $name)
  $told['settings'][] = json_encode([$name, sorted(get_option($name))]);
foreach (['page_on_front', 'page_for_posts', 'site_icon', 'wp_page_for_privacy_policy'] as $name)
  $told['settings'][] = json_encode([$name, post_named(get_option($name))]);
$told['settings'][] = json_encode(['auto', array_map('term_named', get_option('nav_menu_options')['auto_add'] ?? [])]);
$told['settings'][] = json_encode(['video', post_named(get_theme_mod('header_video') ?: -1)]);
$told['settings'][] = json_encode(['links', array_map(fn($w) => is_array($w) ? term_named($w['category'] ?? -1) : '',
  get_option('widget_links') ?: [])]);
$told['settings'][] = json_encode(['default_category', term_named(get_option('default_category'))]);
$told['settings'][] = json_encode(['logo', post_named(get_theme_mod('custom_logo')), post_named(
  get_theme_mod('header_image_data')->attachment_id ?? 0), array_map('term_named', get_theme_mod('nav_menu_locations') ?: [])]);
foreach (get_option('widget_nav_menu') ?: [] as $n => $one) if (is_array($one))
  $told['settings'][] = json_encode(['menu', term_named($one['nav_menu'] ?? 0)]);
foreach (get_option('widget_media_image') ?: [] as $n => $one) if (is_array($one))
  $told['settings'][] = json_encode(['image', post_named($one['attachment_id'] ?? 0)]);
foreach (get_option('widget_block') ?: [] as $n => $one) if (is_array($one) && $n == 7)
  $told['settings'][] = json_encode(['block', said($one['content'])]);
foreach (get_option('widget_pages') ?: [] as $n => $one) if (is_array($one))
  $told['settings'][] = json_encode(['pages', array_map('post_named', explode(',', $one['exclude'] ?? ''))]);
echo json_encode($told);
