<?php
// Adds to a filled WordPress what transfers leave out, rename and settle: php extra.php ROOT ADDRESS
[, $root, $address] = $argv;
require __DIR__ . '/load.php';
require_once ABSPATH . 'wp-admin/includes/admin.php';
add_filter('pre_wp_mail', '__return_true');
global $wpdb;
wp_set_current_user(1);
register_post_type('event', array('public' => true, 'supports' => array('title', 'editor', 'comments', 'revisions')));
register_taxonomy_for_object_type('category', 'event');
$term = wp_insert_term('Summer', 'category');
$news = get_posts(array('numberposts' => 4, 'post_type' => 'post', 'orderby' => 'ID', 'order' => 'ASC'));
foreach ($news as $post) {
    wp_set_object_terms($post->ID, (int) $term['term_id'], 'category');
    wp_update_post(array('ID' => $post->ID, 'post_content' => wp_slash($post->post_content . ' changed')));
}
wp_trash_post($news[0]->ID);
wp_update_comment_count_now($news[0]->ID);
$wpdb->insert($wpdb->posts, array('post_title' => 'Auto Draft', 'post_status' => 'auto-draft', 'post_type' => 'post',
    'post_content' => '', 'post_excerpt' => '', 'to_ping' => '', 'pinged' => '', 'post_content_filtered' => ''));
$spam = get_comments(array('status' => 'spam', 'number' => 5));
foreach ($spam as $comment) {
    update_comment_meta($comment->comment_ID, 'verdict', 'certainly');
}
wp_insert_comment(array('comment_post_ID' => $news[1]->ID, 'comment_parent' => $spam[0]->comment_ID,
    'comment_author' => 'Corin Larkspindle', 'comment_approved' => '1', 'comment_content' => 'An answer to spam.'));
for ($i = 1; $i <= 6; $i++) {
    $id = wp_insert_post(array('post_title' => "Steam gala $i", 'post_type' => 'event', 'post_status' => 'publish',
        'post_content' => "Gala at $address/gala", 'post_author' => 1, 'comment_status' => 'open'));
    update_post_meta($id, 'seats', 120 + $i);
    wp_set_object_terms($id, (int) $term['term_id'], 'category');
    $answer = wp_insert_comment(array('comment_post_ID' => $id, 'comment_author' => 'Wifa', 'comment_approved' => '1', 'comment_content' => 'See you'));
    update_comment_meta($answer, 'tickets', 2);
    wp_update_post(array('ID' => $id, 'post_content' => "Gala, once more, at $address/gala"));
}
$picture = wp_insert_attachment(array('post_mime_type' => 'image/png', 'post_title' => 'Gala', 'post_parent' => $id), 'gala.png');
$menu = wp_get_nav_menu_object('Main');
wp_update_nav_menu_item($menu->term_id, 0, array('menu-item-object-id' => $id, 'menu-item-object' => 'event', 'menu-item-type' => 'post_type', 'menu-item-status' => 'publish'));
set_transient('expired_one', 'gone', 3600);
$wpdb->query("UPDATE $wpdb->options SET option_value = 1000 WHERE option_name = '_transient_timeout_expired_one'");
update_option('wp_user_roles_backup', 'mine');
update_option('stg_user_roles', array('stale' => true));
update_user_meta(1, 'wp_capabilities_note', 'begins alike');
update_user_meta(1, 'wp_cities', 'begins alike');
update_user_meta(1, 'wp_user-settings', 'editor=tinymce');
update_option('desk', array('colours' => array('strip' => 'maroon', 'text' => 'cream'), 'hours' => json_encode(array('open' => '9', 'close' => '17'))));
activate_plugin('ticket-desk/ticket-desk.php');
wp_update_term_count_now(get_terms(array('taxonomy' => 'category', 'fields' => 'tt_ids', 'hide_empty' => false)), 'category');
wp_update_comment_count_now($news[1]->ID);
