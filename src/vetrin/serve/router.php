<?php
// Asked by PHP's own web server for each address. It does what a web server's rules do for a site: files as they are,
// scripts run, folders by their index, and all else by the front script. Hidden files are nobody's to read.
//   VETRIN_ROOT   the folder of the site
//   VETRIN_BASE   the path of its address, empty or such as /railway
//   VETRIN_FRONT  the front script, from the root

function vetrin_answer(int $status, string $text): void
{
    http_response_code($status);
    header('Content-Type: text/plain; charset=utf-8');
    echo $text, "\n";
}

/** The script below the root that a path leads to, and what of the path is behind it; null where it is none. */
function vetrin_script(string $root, string $path): ?array
{
    $at = 0;
    while (($at = strpos($path, '.php', $at)) !== false) {
        $at += 4;
        $behind = substr($path, $at);
        if (($behind === '' || $behind[0] === '/') && is_file($root . substr($path, 0, $at))) {
            return [substr($path, 0, $at), $behind];
        }
    }
    return null;
}

/** Send a file as it is. */
function vetrin_send(string $file): void
{
    $kinds = [
        'avif' => 'image/avif', 'css' => 'text/css', 'gif' => 'image/gif', 'html' => 'text/html', 'ico' => 'image/x-icon',
        'jpeg' => 'image/jpeg', 'jpg' => 'image/jpeg', 'js' => 'text/javascript', 'json' => 'application/json',
        'mjs' => 'text/javascript', 'mp3' => 'audio/mpeg', 'mp4' => 'video/mp4', 'pdf' => 'application/pdf',
        'png' => 'image/png', 'svg' => 'image/svg+xml', 'txt' => 'text/plain', 'webm' => 'video/webm',
        'webp' => 'image/webp', 'woff' => 'font/woff', 'woff2' => 'font/woff2', 'xml' => 'application/xml',
    ];
    $kind = $kinds[strtolower(pathinfo($file, PATHINFO_EXTENSION))] ?? 'application/octet-stream';
    header('Content-Type: ' . $kind . (str_starts_with($kind, 'text/') ? '; charset=utf-8' : ''));
    header('Content-Length: ' . filesize($file));
    readfile($file);
}

/** The script to run and what is behind it in the path; null where the answer is given, false for a plain file. */
function vetrin_route(string $root, string $base, string $front): array|false|null
{
    $path = rawurldecode(strtok($_SERVER['REQUEST_URI'], '?#'));
    if ($base !== '' && $path !== $base && !str_starts_with($path, $base . '/')) {
        vetrin_answer(404, "The site is at $base/.");
        return null;
    }
    $path = substr($path, strlen($base));
    if (str_contains($path, "\0") || preg_match('~/\.(?!well-known(/|$))|^/vetrin\.toml$~', $path)) {
        vetrin_answer(403, 'This file is not handed out.');
        return null;
    }
    if ($path === '' || (is_dir($root . $path) && !str_ends_with($path, '/'))) {
        $query = $_SERVER['QUERY_STRING'] ?? '';
        header('Location: ' . $base . str_replace('%2F', '/', rawurlencode($path)) . '/' . ($query === '' ? '' : "?$query"), true, 301);
        return null;
    }
    $script = vetrin_script($root, $path);
    if ($script !== null) {
        return $script;
    }
    if (str_ends_with($path, '/')) {
        foreach (['index.php', 'index.html'] as $name) {
            if (is_file($root . $path . $name)) {
                if ($name === 'index.php') {
                    return [$path . $name, ''];
                }
                vetrin_send($root . $path . $name);
                return null;
            }
        }
    } elseif (is_file($root . $path)) {
        if ($base === '') {
            return false;
        }
        vetrin_send($root . $path);
        return null;
    }
    return ['/' . $front, ''];
}

$vetrin_route = vetrin_route(getenv('VETRIN_ROOT'), getenv('VETRIN_BASE'), getenv('VETRIN_FRONT'));
if ($vetrin_route === null || $vetrin_route === false) {
    return $vetrin_route ?? true;
}
$_SERVER['DOCUMENT_ROOT'] = getenv('VETRIN_ROOT');
$_SERVER['SCRIPT_NAME'] = getenv('VETRIN_BASE') . $vetrin_route[0];
$_SERVER['SCRIPT_FILENAME'] = getenv('VETRIN_ROOT') . $vetrin_route[0];
$_SERVER['PHP_SELF'] = $_SERVER['SCRIPT_NAME'] . $vetrin_route[1];
unset($_SERVER['PATH_INFO']);
if ($vetrin_route[1] !== '') {
    $_SERVER['PATH_INFO'] = $vetrin_route[1];
}
unset($vetrin_route);
if (!is_file($_SERVER['SCRIPT_FILENAME'])) {
    vetrin_answer(404, 'Nothing is there.');
    return true;
}
chdir(dirname($_SERVER['SCRIPT_FILENAME']));
// In the global scope, as a web server runs it.
require $_SERVER['SCRIPT_FILENAME'];
