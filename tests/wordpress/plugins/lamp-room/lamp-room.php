<?php
/**
 * Plugin Name: Lamp Room
 * Description: Stations and the shifts there, in tables of its own.
 */
register_activation_hook(__FILE__, function () {
    global $wpdb;
    require_once ABSPATH . 'wp-admin/includes/upgrade.php';
    dbDelta("CREATE TABLE {$wpdb->prefix}lamp_stations (
        id bigint(20) unsigned NOT NULL AUTO_INCREMENT,
        code varchar(20) NOT NULL,
        page_id bigint(20) unsigned NOT NULL,
        keeper bigint(20) unsigned NOT NULL,
        PRIMARY KEY  (id),
        UNIQUE KEY code (code)
    ) {$wpdb->get_charset_collate()};");
    dbDelta("CREATE TABLE {$wpdb->prefix}lamp_shifts (
        id bigint(20) unsigned NOT NULL AUTO_INCREMENT,
        station bigint(20) unsigned NOT NULL,
        plan longtext NOT NULL,
        PRIMARY KEY  (id)
    ) {$wpdb->get_charset_collate()};");
});

function lamp_station(string $code, int $page, int $keeper): int {
    global $wpdb;
    $wpdb->insert($wpdb->prefix . 'lamp_stations', array('code' => $code, 'page_id' => $page, 'keeper' => $keeper));
    return $wpdb->insert_id;
}

function lamp_shift(int $station, array $pages): void {
    global $wpdb;
    $plan = array('station' => $station, 'pages' => $pages, 'at' => home_url('/lamps/'));
    $wpdb->insert($wpdb->prefix . 'lamp_shifts', array('station' => $station, 'plan' => serialize($plan)));
}
