<?php
// What every form of the helper in PHP does with files, for PHP 7.0 and later with nothing but what PHP always has.
// The exchange is described in remote/helper_protocol.py. What stands in front of or behind this text says, by
// place(), by_shell() and is_hidden(), which paths may be used, and how far it may go.

const V_JSON = 1, V_DATA = 2, V_PACKED = 3, V_END = 4, V_ERROR = 5;
const V_BEGIN = 1, V_BYTES = 2, V_SPAN = 3, V_DONE = 4, V_LOST = 5;
const V_FRAME = 262144, V_BLOCK = 262144, V_SILENCE = 20;

class Told extends Exception
{
    public $path;
    public $missing;

    public function __construct($message, $path, $missing = false)
    {
        parent::__construct($message);
        $this->path = $path;
        $this->missing = $missing;
    }
}

class Ended extends Exception
{
}

function escaped($path)
{
    return preg_replace_callback('/[^\x20-\x24\x26-\x7e]/', function ($m) {
        return sprintf('%%%02X', ord($m[0]));
    }, $path);
}

function path_of($text)
{
    return rawurldecode($text);
}

/** What PHP said of the last thing that went wrong, without its own words around it. */
function said()
{
    $last = error_get_last();
    $text = $last ? $last['message'] : 'it failed';
    $at = strrpos($text, ': ');
    return $at === false ? $text : substr($text, $at + 2);
}

class Stream
{
    public $source;
    public $sink;
    public $packing = false;
    public $patience = 0; // seconds; 0 for as long as it takes
    public $rest = 0;
    protected $waiting = '';

    public function __construct($source, $sink)
    {
        $this->source = $source;
        $this->sink = $sink;
    }

    public function exactly($size)
    {
        $found = '';
        while (strlen($found) < $size) {
            if ($this->patience && !$this->ready([$this->source])) {
                throw new Ended();
            }
            $part = fread($this->source, min(V_BLOCK, $size - strlen($found)));
            if ($part === false || ($part === '' && feof($this->source))) {
                throw new Ended();
            }
            $found .= $part;
        }
        return $found;
    }

    /** Which of some streams have something to read, within the time that there is patience for. */
    public function ready($reading)
    {
        $none = null;
        return stream_select($reading, $none, $none, $this->patience ?: null) ? $reading : [];
    }

    public function frame()
    {
        $head = unpack('Nlength/Ckind', $this->exactly(5));
        return [$head['kind'], $head['length'] ? $this->exactly($head['length']) : ''];
    }

    public function write($kind, $content = '')
    {
        $whole = pack('NC', strlen($content), $kind) . $content;
        for ($at = 0; $at < strlen($whole); $at += $done) {
            $done = fwrite($this->sink, $at ? substr($whole, $at) : $whole);
            if (!$done) {
                throw new Ended();
            }
        }
        fflush($this->sink);
    }

    public function say($value)
    {
        $this->write(V_JSON, json_encode($value, JSON_FORCE_OBJECT * (int) ($value === []) | JSON_PARTIAL_OUTPUT_ON_ERROR));
    }

    public function data($content)
    {
        if ($this->packing && strlen($content) > 512) {
            if ($this->rest) {
                $this->rest--;
            } else {
                $packed = gzcompress($content, 1);
                if (strlen($packed) < 0.9 * strlen($content)) {
                    $this->write(V_PACKED, $packed);
                    return;
                }
                $this->rest = 8;
            }
        }
        $this->write(V_DATA, $content);
    }

    public function record($kind, $content = '')
    {
        $this->waiting .= pack('CN', $kind, strlen($content)) . $content;
        if (strlen($this->waiting) >= V_FRAME) {
            $this->emptied();
        }
    }

    public function emptied()
    {
        if ($this->waiting !== '') {
            $this->data($this->waiting);
            $this->waiting = '';
        }
    }

    /**
     * Whether what is done for one request has to come to an end here; whoever asked goes on where it stopped. One
     * step is made by every request, however late it is: otherwise nobody would get to an end.
     */
    public function due()
    {
        return false;
    }

    /** A record of so many bytes comes in several frames. */
    public function awaits($length)
    {
    }

    public function fresh($pack)
    {
        $this->packing = $pack && function_exists('gzcompress');
        $this->rest = 0;
        $this->waiting = '';
    }

    public function records()
    {
        $rest = '';
        while (true) {
            list($kind, $content) = $this->frame();
            if ($kind === V_END) {
                return;
            }
            $rest .= $kind === V_PACKED ? gzuncompress($content) : $content;
            unset($content);
            $at = 0;
            $end = strlen($rest);
            while ($at + 5 <= $end) {
                $head = unpack('Ckind/Nlength', substr($rest, $at, 5));
                $size = 5 + $head['length'];
                if ($at + $size > $end) {
                    $this->awaits($head['length']);
                    break;
                }
                $record = (string) substr($rest, $at + 5, $head['length']);
                $at += $size;
                if ($size > V_FRAME) { // of large ones there is room for few copies
                    $rest = (string) substr($rest, $at);
                    $end -= $at;
                    $at = 0;
                }
                yield [$head['kind'], $record];
            }
            $rest = (string) substr($rest, $at);
        }
    }

    public function drain()
    {
        do {
            list($kind) = $this->frame();
        } while ($kind !== V_END);
    }
}

function look($path, $follow = false)
{
    $found = $follow ? @stat($path) : @lstat($path);
    if (!$found) {
        return null;
    }
    $kinds = [0100000 => 'file', 0040000 => 'folder', 0120000 => 'link'];
    $format = $found['mode'] & 0170000;
    $kind = isset($kinds[$format]) ? $kinds[$format] : 'other';
    $target = $kind === 'link' ? escaped((string) @readlink($path)) : '';
    return [$kind, $found['size'], $found['mtime'] * 1000000000, $found['mode'] & 07777, $target,
        $found['dev'], $found['ino']];
}

function there($path)
{
    return @lstat($path) !== false;
}

function folders($path)
{
    if (!is_dir($path) && !@mkdir($path, 0777, true) && !is_dir($path)) {
        throw new Told(said(), $path);
    }
}

function v_look($stream, $ask)
{
    $found = [];
    foreach ($ask['paths'] as $path) {
        try {
            $found[] = look(place($path, !empty($ask['follow'])), !empty($ask['follow']));
        } catch (Told $outside) {
            $found[] = null;
        }
    }
    $stream->say(['found' => $found]);
}

function pruned($path, $patterns)
{
    foreach ($patterns as $pattern) {
        if (preg_match("\x01" . $pattern . "\x01A", $path)) {
            return true;
        }
    }
    return false;
}

function v_scan($stream, $ask)
{
    $skip = array_flip(array_map('path_of', $ask['skip']));
    $shut = array_flip(array_map('path_of', $ask['shut']));
    $start = strlen(path_of(isset($ask['root']) ? $ask['root'] : ''));
    $prune = isset($ask['prune']) ? $ask['prune'] : [];
    $found = [];
    $waiting = array_reverse(array_map('place', $ask['folders']));
    for ($some = false; $waiting && !($some && $stream->due()); $some = true) {
        $folder = array_pop($waiting);
        $names = @scandir($folder, SCANDIR_SORT_NONE);
        if ($names === false) {
            if (there($folder)) {
                if (is_readable($folder)) {
                    throw new Told(said(), $folder);
                }
                $found[] = [escaped($folder), ['unread', 0, 0, 0, '', 0, 0]];
            }
            continue;
        }
        foreach ($names as $name) {
            $path = "$folder/$name";
            if ($name === '.' || $name === '..' || isset($skip[$path]) || is_hidden($path)) {
                continue;
            }
            $seen = look($path);
            if ($seen === null) {
                if ((string) ini_get('open_basedir') === '') {
                    continue;
                }
                $seen = ['link', 0, 0, 0, '/', 0, 0]; // a link that leads out is named, and no more is told of it
            }
            if ($seen[0] === 'folder' && !isset($shut[$name]) && !pruned(substr($path, $start) . '/', $prune)) {
                $waiting[] = $path;
            }
            $found[] = [escaped($path), $seen];
            if (count($found) >= 2000) {
                $stream->data(json_encode($found));
                $found = [];
            }
        }
    }
    if ($found) {
        $stream->data(json_encode($found));
    }
    if ($waiting) {
        $stream->say(['rest' => array_map('escaped', array_reverse($waiting))]);
    }
}

function v_names($stream, $ask)
{
    if (!isset($ask['paths'])) {
        $stream->say(['found' => names_in($ask['path'])]);
        return;
    }
    $each = [];
    foreach ($ask['paths'] as $number => $path) {
        if ($number && $stream->due()) {
            break;
        }
        try {
            $each[] = names_in($path);
        } catch (Told $unread) {
            $each[] = [];
        }
    }
    $stream->say(['each' => $each]);
}

function names_in($text)
{
    $folder = rtrim(place($text), '/');
    $names = @scandir($folder === '' ? '/' : $folder, SCANDIR_SORT_NONE);
    if ($names === false) {
        throw new Told(said(), $folder, !there($folder));
    }
    $found = [];
    foreach ($names as $name) {
        $seen = $name === '.' || $name === '..' || is_hidden("$folder/$name") ? null : look("$folder/$name");
        if ($seen !== null) {
            $found[] = [escaped("$folder/$name"), $seen];
        }
    }
    return $found;
}

function lost($path, $missing)
{
    return json_encode(['message' => $missing ? 'No such file or directory' : said(),
        'path' => $path, 'missing' => $missing, 'denied' => !$missing && denied()]);
}

function denied()
{
    return stripos(said(), 'permission denied') !== false;
}

function v_read($stream, $ask)
{
    foreach ($ask['items'] as $number => list($text, $start, $size)) {
        if ($number && $stream->due()) {
            break;
        }
        try {
            $path = place($text);
        } catch (Told $outside) {
            $stream->record(V_LOST, lost($text, true));
            continue;
        }
        $file = is_dir($path) ? false : @fopen($path, 'rb');
        if (!$file) {
            $stream->record(V_LOST, lost($text, !there($path)));
            continue;
        }
        stream_set_read_buffer($file, 0);
        if ($start) {
            fseek($file, $start);
        }
        $left = $size === null ? -1 : $size;
        while ($left) {
            $block = fread($file, $left < 0 ? V_BLOCK : min(V_BLOCK, $left));
            if ($block === false || $block === '') {
                break;
            }
            $left -= $left > 0 ? strlen($block) : 0;
            $stream->record(V_BYTES, $block);
            if ($left && $stream->due()) {
                break 2;
            }
        }
        fclose($file);
        $stream->record(V_DONE);
    }
    $stream->emptied();
}

function v_write($stream, $ask)
{
    $made = [];
    $file = $base = null;
    $count = 0;
    foreach ($stream->records() as list($what, $content)) {
        if ($what === V_BEGIN) {
            list($text, $mode, $modified, $of, $from) = json_decode($content, true) + [4 => 0];
            $path = place($text);
            $folder = dirname($path);
            if (!isset($made[$folder])) {
                folders($folder);
                $made[$folder] = true;
            }
            if ($of) {
                $base = @fopen(place($of), 'rb');
                if (!$base) {
                    throw new Told(said(), path_of($of), !there(place($of)));
                }
            }
            $before = umask(0077);
            $file = @fopen($path, $from ? 'cb' : 'wb');
            umask($before);
            if (!$file || ($from && (fstat($file)['size'] < $from || !ftruncate($file, $from) || fseek($file, $from)))) {
                throw new Told($file ? 'its beginning is not there' : said(), $path);
            }
        } elseif ($what === V_BYTES) {
            put($file, $content, $path);
        } elseif ($what === V_SPAN) {
            $span = unpack('Jstart/Jsize', $content);
            fseek($base, $span['start']);
            $left = $span['size'];
            while ($left > 0) {
                $block = fread($base, min(V_BLOCK, $left));
                if ($block === false || $block === '') {
                    break;
                }
                $left -= strlen($block);
                put($file, $block, $path);
            }
        } elseif ($what === V_DONE) {
            if (!fclose($file)) {
                throw new Told(said(), $path);
            }
            if ($base) {
                fclose($base);
            }
            if ($content === '+') { // more of it comes
                $file = $base = null;
                continue;
            }
            @chmod($path, $mode);
            if ($modified >= 0) {
                touch($path, intdiv($modified, 1000000000));
            }
            $file = $base = null;
            $count++;
        }
    }
    $stream->say(['written' => $count]);
}

function put($file, $content, $path)
{
    if ($content !== '' && @fwrite($file, $content) !== strlen($content)) {
        throw new Told(said(), $path);
    }
}

/** PHP looks at where a link leads to, and makes none that leads to itself; others make any. */
function linked($target, $path)
{
    if (function_exists('symlink') && @symlink($target, $path)) {
        return true;
    }
    by_shell("ln -s -- '" . str_replace("'", "'\\''", $target) . "' '" . str_replace("'", "'\\''", $path) . "'");
    if (!is_link($path) && function_exists('symlink') && @mkdir("$path.aside")) {
        // From a folder in which its target is not there, it is made; the name comes along.
        if (@symlink($target, "$path.aside/link")) {
            @rename("$path.aside/link", $path);
        }
        @rmdir("$path.aside");
    }
    return is_link($path);
}

/**
 * Why nothing may be written to a path below a root: a link on the way belongs to another account, which could lead
 * what is written anywhere. Null where nothing speaks against it. PHP cannot hold a folder open; this is as close to
 * the act as it can be.
 */
function led_away($root, $path)
{
    if ($root === '' || strpos($path, "$root/") !== 0) {
        return null;
    }
    $ours = function_exists('posix_geteuid') ? posix_geteuid() : fileowner("$root/.vetrin");
    $at = $root;
    foreach (array_slice(explode('/', substr($path, strlen($root) + 1)), 0, -1) as $name) {
        $at .= "/$name";
        if (is_link($at) && !in_array(lstat($at)['uid'], [0, $ours], true)) {
            return "$at is a link that another account made; if it is meant to be there, make it your own (chown -h)";
        }
    }
    return null;
}

/** One act; why it failed, null where it did not. */
function one_act($do, $path, $other, $mode, $root = '')
{
    error_clear_last();
    if ($root !== '') {
        clearstatcache();
        $why = led_away($root, $path);
        $why = $why === null ? led_away($root, $other) : $why;
        if ($why !== null) {
            return $why;
        }
    }
    if ($do === 'rename') {
        if (there($other)) {
            return 'something is there already';
        }
        $good = @rename($path, $other);
    } elseif ($do === 'replace') {
        $good = @rename($path, $other);
    } elseif ($do === 'folder') {
        $good = is_dir($path) || @mkdir($path, 0777, true) || is_dir($path);
    } elseif ($do === 'link') {
        $good = linked($other, $path);
    } elseif ($do === 'remove') {
        $good = @unlink($path);
    } elseif ($do === 'remove-folder') {
        $good = @rmdir($path);
    } elseif ($do === 'mode') {
        $good = @chmod($path, $mode);
    } elseif ($do === 'claim' && $other !== '' && function_exists('link') && @link($other, $path)) {
        $good = true;
    } elseif ($do === 'claim' && $other !== '') {
        $file = @fopen($path, 'x');
        $good = $file && @fwrite($file, (string) @file_get_contents($other)) && fclose($file);
        if ($file && !$good) {
            @unlink($path);
        }
    } elseif ($do === 'claim') {
        $file = @fopen($path, 'x');
        $good = $file && fclose($file) && chmod($path, $mode);
    } else {
        return 'it is not known here';
    }
    clearstatcache();
    return $good ? null : said();
}

function v_act($stream, $ask)
{
    $done = 0;
    $root = path_of(isset($ask['root']) ? $ask['root'] : '');
    $at = 0;
    foreach ($ask['acts'] as list($do, $one, $other, $mode, $soft)) {
        if ($at && $stream->due()) {
            break;
        }
        $at++;
        $path = place($one, false);
        $to = $do === 'link' || $other === '' ? path_of($other) : place($other, false);
        $why = one_act($do, $path, $to, $mode, $root);
        if ($why !== null && !$soft) {
            throw new Told($why, $path, !there($path));
        }
        if ($why === null) {
            $done++;
            after_act($do, $path, $to);
        }
    }
    $stream->say(['done' => $done, 'at' => $at]);
}

/** The digest of a file; null where it cannot be read, false where it takes longer than there is time. */
function digest_of($path, $algorithm, $stream)
{
    $file = is_file($path) ? @fopen($path, 'rb') : false;
    if (!$file) {
        return null;
    }
    $made = hash_init($algorithm);
    while (hash_update_stream($made, $file, 1 << 22)) {
        if ($stream->due() && !feof($file)) {
            return false;
        }
    }
    return hash_final($made);
}

function v_digest($stream, $ask)
{
    $found = [];
    $piece = empty($ask['piece']) ? 0 : $ask['piece'];
    foreach ($ask['paths'] as $number => $text) {
        if ($number && $stream->due()) {
            break;
        }
        $path = place($text);
        if (!$piece) {
            $made = digest_of($path, $ask['algorithm'], $stream);
            if ($made === false && $number) {
                break; // it begins the next request
            }
            $found[] = $made;
        } else {
            $file = @fopen($path, 'rb');
            $list = $file ? [] : null;
            if ($file && !empty($ask['from'])) {
                fseek($file, $ask['from'] * $piece);
            }
            while ($file && !($list && $stream->due()) && ($block = stream_get_contents($file, $piece)) !== '' && $block !== false) {
                $list[] = hash($ask['algorithm'], $block);
            }
            $found[] = $list;
        }
        if (count($found) >= 500) {
            $stream->data(json_encode($found));
            $found = [];
        }
    }
    $stream->data(json_encode($found));
}

function v_room($stream, $ask)
{
    $path = place($ask['path']);
    while (!is_dir($path) && $path !== '/' && $path !== '.') {
        $path = dirname($path);
    }
    $free = function_exists('disk_free_space') ? @disk_free_space($path) : false;
    $stream->say(['disk' => (string) stat($path)['dev'], 'free' => $free === false ? -1 : (int) $free]);
}

function v_flush($stream, $ask)
{
    by_shell('sync');
    $stream->say([]);
}

/** Remove a file, or a folder with all in it; false where more is left than can be done at once. */
function cleared($path, $stream)
{
    if (is_dir($path) && !is_link($path)) {
        if (!is_writable($path)) {
            @chmod($path, 0700);
        }
        foreach (scandir($path) as $name) {
            if ($name !== '.' && $name !== '..') {
                if (!cleared("$path/$name", $stream) || $stream->due()) {
                    return false;
                }
            }
        }
        $good = @rmdir($path);
    } else {
        $good = @unlink($path);
    }
    if (!$good && there($path)) {
        throw new Told(said(), $path);
    }
    return true;
}

function v_remove($stream, $ask)
{
    $path = place($ask['path'], false);
    $stream->say(['rest' => there($path) && !cleared($path, $stream)]);
}

function v_real($stream, $ask)
{
    $path = place($ask['path'], false);
    $found = realpath($path);
    $stream->say(['path' => escaped($found === false ? $path : $found)]);
}

function v_load($stream, $ask)
{
    $load = function_exists('sys_getloadavg') ? sys_getloadavg() : false;
    $text = @file_get_contents('/proc/cpuinfo');
    $stream->say(['load' => $load ? $load[0] : 0,
        'processors' => max(1, preg_match_all('/^processor/m', (string) $text))]);
}

/** Whether somebody carries out the switch whose record lies at a path. */
function v_busy($stream, $ask)
{
    $file = @fopen(place($ask['path']), 'rb');
    $stream->say(['busy' => $file && !flock($file, LOCK_SH | LOCK_NB)]);
}
