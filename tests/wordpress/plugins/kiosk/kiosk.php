<?php
/**
 * Plugin Name: Kiosk
 * Description: What the kiosk sells, in a table of its own.
 */
register_activation_hook(__FILE__, function () {
    global $wpdb;
    require_once ABSPATH . 'wp-admin/includes/upgrade.php';
    dbDelta("CREATE TABLE {$wpdb->prefix}kiosk_menu (
        id bigint(20) unsigned NOT NULL AUTO_INCREMENT,
        dish varchar(80) NOT NULL,
        page_id bigint(20) unsigned NOT NULL,
        link varchar(200) NOT NULL,
        PRIMARY KEY  (id)
    ) {$wpdb->get_charset_collate()};");
});
