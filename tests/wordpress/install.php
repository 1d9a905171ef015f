<?php
// Installs WordPress through its own functions and fills it: php install.php ROOT ADDRESS FILL
[, $root, $address, $fill] = $argv;
$parts = parse_url($address);
$_SERVER['HTTP_HOST'] = $parts['host'] . (isset($parts['port']) ? ':' . $parts['port'] : '');
$_SERVER['REQUEST_URI'] = ($parts['path'] ?? '') . '/wp-admin/install.php';
$_SERVER['PHP_SELF'] = $_SERVER['REQUEST_URI'];
$_SERVER['SERVER_PROTOCOL'] = 'HTTP/1.1';
$_SERVER['REQUEST_METHOD'] = 'GET';
define('WP_INSTALLING', true);
define('WP_CONTENT_URL', $address . '/wp-content');
require $root . '/wp-load.php';
require_once ABSPATH . 'wp-admin/includes/upgrade.php';
require_once ABSPATH . 'wp-admin/includes/image.php';
add_filter('pre_wp_mail', '__return_true');
$admin = $fill === 'production' ? 'stationmaster' : 'tinkerer';
wp_install('Harrowmere Light Railway', $admin, 'desk@harrowmere.example', true, '', $admin . '-word');
update_option('siteurl', $address);
update_option('home', $address);
switch_theme('harrowmere');
update_option('permalink_structure', '/%year%/%postname%/');
if ($fill !== 'production') {
    wp_insert_post(array('post_title' => 'Local try-out', 'post_status' => 'publish',
        'post_content' => 'Only here.', 'post_author' => 1));
    flush_rewrite_rules();
    exit(0);
}
$public = 'https://www.harrowmere.example';
$schemeless = preg_replace('~^https?:~', '', $address);
$escaped = str_replace('/', '\\/', $address);
$uploads = wp_upload_dir('2026/05');
$pictures = array();
for ($i = 1; $i <= 4; $i++) {
    $image = imagecreatetruecolor(640, 400);
    imagefilledrectangle($image, 0, 0, 640, 400, imagecolorallocate($image, 40 * $i, 90, 120));
    $file = $uploads['path'] . "/train-$i.png";
    imagepng($image, $file);
    $id = wp_insert_attachment(array('post_mime_type' => 'image/png', 'post_title' => "Train $i",
        'post_status' => 'inherit', 'guid' => $uploads['url'] . "/train-$i.png"), $file);
    wp_update_attachment_metadata($id, wp_generate_attachment_metadata($id, $file));
    $pictures[] = array($id, $uploads['url'] . "/train-$i.png");
}
for ($i = 1; $i <= 25; $i++) {
    [$id, $url] = $pictures[$i % 4];
    $content = "<!-- wp:image {\"id\":$id,\"linkDestination\":\"custom\",\"href\":\"$url\"} -->\n"
        . "<figure class=\"wp-block-image\"><a href=\"$url\"><img src=\"$url\" alt=\"\"/></a></figure>\n<!-- /wp:image -->\n"
        . "<p>Train $i – “all aboard” <a href=\"$address/fares/\">fares</a> <a href=\"$public/timetable\">live</a> "
        . "<a href='$schemeless/2026/'>year</a> desk@harrowmere.example " . urlencode($address . '/x') . " $root/wp-content/uploads</p>"
        . "<!-- wp:html --><script>var u = \"$escaped\\/wp-json\\/\";</script><!-- /wp:html -->";
    $post = wp_insert_post(array('post_title' => "News number $i", 'post_status' => 'publish',
        'post_content' => wp_slash($content), 'post_author' => 1, 'post_date' => sprintf('2026-05-%02d 10:00:00', $i)));
    set_post_thumbnail($post, $id);
    update_post_meta($post, 'gallery', array('pictures' => array($url, $url . '?w=2'), 'deep' => serialize(array('u' => $url))));
    update_post_meta($post, 'layout', wp_slash(json_encode(array('bg' => array('url' => $url), 'ser' => serialize(array($address, 'Grüße'))))));
    foreach (array('1', '0', 'spam') as $state) {
        wp_insert_comment(array('comment_post_ID' => $post, 'comment_author' => 'Tamsin Oakhollow',
            'comment_author_url' => $address . '/x', 'comment_approved' => $state, 'comment_content' => "See $address/fares"));
    }
}
foreach (array('Fares', 'Timetable', 'Volunteers') as $title) {
    $pages[] = wp_insert_post(array('post_title' => $title, 'post_type' => 'page', 'post_status' => 'publish',
        'post_content' => "<p>$title at $address</p>", 'post_author' => 1));
}
$menu = wp_create_nav_menu('Main');
wp_update_nav_menu_item($menu, 0, array('menu-item-title' => 'Timetable', 'menu-item-url' => $address . '/timetable/', 'menu-item-status' => 'publish'));
wp_update_nav_menu_item($menu, 0, array('menu-item-object-id' => $pages[0], 'menu-item-object' => 'page', 'menu-item-type' => 'post_type', 'menu-item-status' => 'publish'));
set_theme_mod('nav_menu_locations', array('main' => $menu));
set_theme_mod('custom_logo', $pictures[0][0]);
set_theme_mod('header_image', $pictures[1][1]);
update_option('widget_text', array(2 => array('title' => 'Desk', 'text' => "<a href=\"$address/\">home</a> desk@harrowmere.example", 'filter' => true), '_multiwidget' => 1));
update_option('sidebars_widgets', array('side' => array('text-2'), 'wp_inactive_widgets' => array(), 'array_version' => 3));
$object = new stdClass();
$object->link = $address . '/tickets';
$object->list = array(1.5, true, null, INF, -3, $public);
$object->self = $object;
update_option('harrowmere_settings', array('object' => $object, 'nested' => serialize(array('a' => serialize(array($address)))), $address . '/key' => 'keyed'));
update_option('harrowmere_json', json_encode(array('logo' => $pictures[0][1], 'path' => $root . '/wp-content', 'inner' => json_encode(array('u' => $address)))));
update_option('upload_url_path', '');
$user = wp_create_user('guard', 'guard-word', 'guard@harrowmere.example');
update_user_meta($user, 'favourites', array($address . '/fares', array('x' => $public)));
WP_Session_Tokens::get_instance(1)->create(time() + 86400);
set_transient('harrowmere_cache', array('html' => "<a href=\"$address\">x</a>"), 3600);
flush_rewrite_rules();
