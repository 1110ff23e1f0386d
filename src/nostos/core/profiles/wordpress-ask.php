<?php
/* Asks a staging copy about itself, from the command line. It changes nothing. */
$_SERVER['HTTP_HOST'] = '{host}';
$_SERVER['REQUEST_URI'] = '/';
define( 'WP_USE_THEMES', false );
require './wp-load.php';
$uploads = wp_upload_dir( null, false );
echo "\nnostos:" . json_encode( array(
	'database' => DB_NAME,
	'prefix'   => $GLOBALS['wpdb']->prefix,
	'url'      => home_url(),
	'folders'  => array( ABSPATH, WP_CONTENT_DIR, WP_PLUGIN_DIR, WPMU_PLUGIN_DIR, $uploads['basedir'] ),
	'urls'     => array( site_url(), WP_CONTENT_URL, $uploads['baseurl'] ),
	'guarded'  => function_exists( 'nostos_staging_mark' ) && false === wp_mail( 'nobody@example.invalid', 'x', 'x' ),
) ) . "\n";
