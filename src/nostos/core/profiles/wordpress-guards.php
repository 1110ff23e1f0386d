<?php
/* Laid down by Nostos in a staging copy, and only there: it keeps the copy from acting as the live site. */
defined( 'ABSPATH' ) || exit;
$nostos_gate = explode( ':', '{gate}' ); // a name, rounds, salt and hash; or nothing
if ( count( $nostos_gate ) === 4 && PHP_SAPI !== 'cli' ) {
	$nostos_said = array( $_SERVER['PHP_AUTH_USER'] ?? '', $_SERVER['PHP_AUTH_PW'] ?? '' );
	$nostos_head = $_SERVER['HTTP_AUTHORIZATION'] ?? $_SERVER['REDIRECT_HTTP_AUTHORIZATION'] ?? '';
	if ( '' === $nostos_said[0] && 0 === stripos( $nostos_head, 'basic ' ) ) {
		$nostos_said = explode( ':', (string) base64_decode( substr( $nostos_head, 6 ) ), 2 ) + array( '', '' );
	}
	if ( ! hash_equals( $nostos_gate[0], $nostos_said[0] ) || ! hash_equals( $nostos_gate[3],
		hash_pbkdf2( 'sha256', $nostos_said[1], $nostos_gate[2], (int) $nostos_gate[1] ) ) ) {
		header( 'WWW-Authenticate: Basic realm="Staging copy"' );
		http_response_code( 401 );
		exit( 'This staging copy asks for a name and a password.' );
	}
}
if ( PHP_SAPI === 'cli-server' && 'https' === ( $_SERVER['HTTP_X_FORWARDED_PROTO'] ?? '' ) ) {
	$_SERVER['HTTPS'] = 'on'; // answering on this machine for an address that is reached by https
}
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
