<?php
/* Laid down by Nostos in a staging copy, and only there: it keeps the copy from acting as the live site. */
defined( 'ABSPATH' ) || exit;
add_filter( 'pre_wp_mail', '__return_false', PHP_INT_MAX );
add_filter( 'pre_get_ready_cron_jobs', '__return_empty_array', PHP_INT_MAX );
add_filter( 'automatic_updater_disabled', '__return_true', PHP_INT_MAX );
add_filter( 'pre_option_blog_public', '__return_zero', PHP_INT_MAX );
add_filter( 'wp_robots', function ( $robots ) { return array( 'noindex' => true, 'nofollow' => true ); }, PHP_INT_MAX );
add_action( 'send_headers', function () { header( 'X-Robots-Tag: noindex, nofollow' ); } );
function nostos_staging_mark() {
	$hours = max( 0, floor( ( time() - strtotime( '{since}' ) ) / 3600 ) );
	echo '<div id="nostos-staging-mark" style="position:fixed;left:0;right:0;bottom:0;z-index:999999;background:#b3261e;'
		. 'color:#fff;font:bold 14px/1.4 sans-serif;padding:8px;text-align:center">STAGING COPY of {live}: voyage {voyage}, '
		. esc_html( $hours < 48 ? $hours . ' hours' : floor( $hours / 24 ) . ' days' ) . ' old. Nothing here is live.</div>';
}
add_action( 'wp_footer', 'nostos_staging_mark' );
add_action( 'admin_footer', 'nostos_staging_mark' );
add_action( 'login_footer', 'nostos_staging_mark' );
