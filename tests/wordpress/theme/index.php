<!doctype html>
<html <?php language_attributes(); ?>>
<head><meta charset="utf-8"><?php wp_head(); ?></head>
<body <?php body_class(); ?>>
<?php wp_body_open(); the_custom_logo(); wp_nav_menu(array('theme_location' => 'main')); ?>
<?php while (have_posts()) { the_post(); ?>
<article><h2><a href="<?php the_permalink(); ?>"><?php the_title(); ?></a></h2>
<?php the_post_thumbnail(); the_content(); ?></article>
<?php } dynamic_sidebar('side'); wp_footer(); ?>
</body></html>
