<?php
// What a web server's rewrite rules do: existing files as they are, all else to WordPress.
$base = getenv('SITE_BASE') ?: '';
$root = $_SERVER['DOCUMENT_ROOT'];
$path = urldecode(parse_url($_SERVER['REQUEST_URI'], PHP_URL_PATH));
$file = $root . $path;
if ($path !== '/' && is_file($file) && substr($file, -4) !== '.php') {
    return false;
}
if (is_dir($file) && is_file(rtrim($file, '/') . '/index.php')) {
    $file = rtrim($file, '/') . '/index.php';
}
if (!is_file($file)) {
    $file = $root . $base . '/index.php';
}
$_SERVER['SCRIPT_FILENAME'] = $file;
$_SERVER['SCRIPT_NAME'] = $_SERVER['PHP_SELF'] = substr($file, strlen($root));
chdir(dirname($file));
require $file;
