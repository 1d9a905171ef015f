<?php
// What people do to one side of a merge, through WordPress's own functions: php merge.php ROOT ADDRESS live|local
[, $root, $address, $side] = $argv;
require __DIR__ . '/load.php';
require_once ABSPATH . 'wp-admin/includes/admin.php';
require_once ABSPATH . 'wp-admin/includes/image.php';
add_filter('pre_wp_mail', '__return_true');
wp_set_current_user(1);
register_post_type('booking', array('public' => false));
register_taxonomy('gauge', 'post', array('hierarchical' => true));

function gauge(string $name, int $parent = 0): int {
    $term = wp_insert_term($name, 'gauge', array('parent' => $parent));
    _get_term_hierarchy('gauge'); // as whoever looks at the site makes it
    return $term['term_id'];
}

function by_title(string $title, string $type = 'page'): WP_Post {
    foreach (get_posts(array('post_type' => $type, 'post_status' => 'any', 'numberposts' => -1)) as $post) {
        if ($post->post_title === $title) {
            return $post;
        }
    }
    throw new Exception("no $type $title");
}

function say(WP_Post $post, string $content, array $more = array()): void {
    wp_update_post(array('ID' => $post->ID, 'post_content' => wp_slash($content)) + $more);
}

function picture(string $name, int $colour): int {
    $uploads = wp_upload_dir('2026/11');
    $file = $uploads['path'] . "/$name.png";
    $image = imagecreatetruecolor(300, 200);
    imagefilledrectangle($image, 0, 0, 300, 200, imagecolorallocate($image, $colour, 60, 90));
    imagepng($image, $file);
    $id = wp_insert_attachment(array('post_mime_type' => 'image/png', 'post_title' => ucfirst($name),
        'post_status' => 'inherit', 'guid' => $uploads['url'] . "/$name.png"), $file);
    wp_update_attachment_metadata($id, wp_generate_attachment_metadata($id, $file));
    return $id;
}

if ($side === 'before') {
    say(by_title('Fares'), "<p>Adults pay nine.</p>\n\n<p>Children pay five.</p>\n\n<p>Dogs ride free.</p>");
    say(by_title('Timetable'), "<p>Trains at ten.</p>\n\n<p>See $address/fares/</p>");
    gauge('Two feet', gauge('Narrow'));
    update_option('signal_children', array('of' => 'a plugin'));
    activate_plugin('lamp-room/lamp-room.php');
    lamp_shift(lamp_station('top', by_title('Fares')->ID, 1), array(by_title('Fares')->ID));
    update_option('lamp_settings', array('stations' => array(1), 'page' => by_title('Fares')->ID));
    exit(0);
}
if ($side === 'live') {
    $news = wp_insert_post(array('post_title' => 'Snow on the line', 'post_status' => 'publish', 'post_author' => 1,
        'post_content' => "<p>No trains at $address today.</p>"));
    for ($i = 1; $i <= 3; $i++) {
        $booking = wp_insert_post(array('post_title' => "Booking $i", 'post_type' => 'booking', 'post_status' => 'publish', 'post_author' => 1));
        update_post_meta($booking, 'seats', $i);
        update_post_meta($booking, 'event', $news);
    }
    foreach (array($news, by_title('Fares')->ID) as $id) {
        wp_insert_comment(array('comment_post_ID' => $id, 'comment_author' => 'Jory', 'comment_approved' => '1', 'comment_content' => 'From a visitor'));
    }
    $guard = wp_create_user('lampman', 'lamp-word', 'lampman@harrowmere.example');
    (new WP_User($guard))->set_role('editor');
    $same = wp_create_user('porter', 'porter-live', 'porter@harrowmere.example');
    update_option('blogdescription', 'Steam in the hills');
    wp_update_post(array('ID' => by_title('News number 3', 'post')->ID, 'post_title' => 'News number three'));
    wp_delete_post(by_title('Volunteers')->ID, true);
    $term = wp_insert_term('Galas', 'category');
    wp_set_object_terms($news, array((int) $term['term_id']), 'category');
    say(by_title('Fares'), "<p>Adults pay nine.</p>\n\n<p>Children pay five.</p>\n\n<p>Dogs ride for one.</p>");
    say(by_title('Timetable'), "<p>Trains at eleven.</p>\n\n<p>See $address/fares/</p>");
    $widgets = get_option('widget_text');
    $widgets[3] = array('title' => 'Live', 'text' => 'Written live', 'filter' => true);
    update_option('widget_text', $widgets);
    update_option('sidebars_widgets', array('side' => array('text-2', 'text-3'), 'wp_inactive_widgets' => array(), 'array_version' => 3));
    lamp_shift(lamp_station('ferry', $news, $guard), array($news));
    lamp_shift(lamp_station('both', $news, $guard), array());
    exit(0);
}
$one = picture('engine', 40);
$two = picture('tender', 200);
$urls = array($one => wp_get_attachment_url($one), $two => wp_get_attachment_url($two));
$page = wp_insert_post(array('post_title' => 'Our engines', 'post_type' => 'page', 'post_status' => 'publish', 'post_author' => 1,
    'post_content' => wp_slash("<!-- wp:image {\"id\":$one,\"sizeSlug\":\"large\"} -->\n<figure class=\"wp-block-image size-large\">"
        . "<img src=\"$urls[$one]\" alt=\"\" class=\"wp-image-$one\"/></figure>\n<!-- /wp:image -->\n\n"
        . "<!-- wp:gallery {\"ids\":[$one,$two],\"linkTo\":\"none\"} -->\n<figure class=\"wp-block-gallery\">"
        . "<img src=\"$urls[$two]\" data-id=\"$two\" class=\"wp-image-$two\"/></figure>\n<!-- /wp:gallery -->\n\n[gallery ids=\"$one, $two\"]"))); 
set_post_thumbnail($page, $two);
update_post_meta($page, '_wp_page_template', 'default');
$child = wp_insert_post(array('post_title' => 'The tender', 'post_type' => 'page', 'post_status' => 'publish', 'post_author' => 1, 'post_parent' => $page,
    'post_content' => "<p><a href=\"$address/?page_id=$page\">all engines</a></p>"));
$term = wp_insert_term('Galas', 'category');
$gala = wp_insert_post(array('post_title' => 'Winter gala', 'post_status' => 'publish', 'post_author' => 1, 'post_content' => "<p>At $address</p>"));
wp_set_object_terms($gala, array((int) $term['term_id']), 'category');
gauge('Three feet', (int) get_term_by('name', 'Narrow', 'gauge')->term_id);
$menu = wp_create_nav_menu('Winter');
$first = wp_update_nav_menu_item($menu, 0, array('menu-item-object-id' => $page, 'menu-item-object' => 'page', 'menu-item-type' => 'post_type', 'menu-item-status' => 'publish'));
wp_update_nav_menu_item($menu, 0, array('menu-item-object-id' => $child, 'menu-item-object' => 'page', 'menu-item-type' => 'post_type', 'menu-item-status' => 'publish', 'menu-item-parent-id' => $first));
wp_update_nav_menu_item($menu, 0, array('menu-item-object-id' => $term['term_id'], 'menu-item-object' => 'category', 'menu-item-type' => 'taxonomy', 'menu-item-status' => 'publish'));
wp_update_nav_menu_item($menu, 0, array('menu-item-object-id' => by_title('Volunteers')->ID, 'menu-item-object' => 'page', 'menu-item-type' => 'post_type', 'menu-item-title' => 'To what is gone', 'menu-item-status' => 'publish'));
wp_update_nav_menu_item($menu, 0, array('menu-item-title' => 'Desk', 'menu-item-url' => $address . '/desk/', 'menu-item-status' => 'publish'));
set_theme_mod('nav_menu_locations', array('main' => $menu));
set_theme_mod('custom_logo', $one);
update_option('show_on_front', 'page');
update_option('page_on_front', $page);
stick_post($gala);
$widgets = get_option('widget_text');
$widgets[3] = array('title' => 'Here', 'text' => "<a href=\"$address/\">home</a>", 'filter' => true);
update_option('widget_text', $widgets);
update_option('sidebars_widgets', array('side' => array('text-2', 'text-3'), 'wp_inactive_widgets' => array(), 'array_version' => 3));
$same = wp_create_user('porter', 'porter-local', 'porter@harrowmere.example');
say(by_title('Fares'), "<p>Adults pay ten.</p>\n\n<p>Children pay five.</p>\n\n<p>Dogs ride free.</p>");
say(by_title('Timetable'), "<p>Trains at noon.</p>\n\n<p>See $address/fares/</p>");
$top = lamp_station('summit', $page, $same);
lamp_shift($top, array($page, $child, by_title('Fares')->ID));
lamp_shift(lamp_station('both', by_title('Fares')->ID, 1), array($child));
update_option('lamp_settings', array('stations' => array(1, $top), 'page' => $page));
activate_plugin('kiosk/kiosk.php');
$wpdb->insert($wpdb->prefix . 'kiosk_menu', array('dish' => 'Soup', 'page_id' => $page, 'link' => "$address/?page_id=$page"));
