<?php
add_action('after_setup_theme', function () {
    add_theme_support('post-thumbnails');
    add_theme_support('title-tag');
    add_theme_support('custom-logo');
    add_theme_support('custom-header');
    register_nav_menus(array('main' => 'Main'));
});
add_action('widgets_init', function () {
    register_sidebar(array('id' => 'side', 'name' => 'Side'));
});
