<?php
// The helper in PHP's form, for PHP 7.0 and later with nothing but what PHP always has.
// It is run from memory by "php -r" and leaves nothing behind. The exchange is described in
// reach/frames.py.

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
    private $waiting = '';

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
            if ($kind === V_PACKED) {
                $content = gzuncompress($content);
            }
            $content = $rest . $content;
            $at = 0;
            $end = strlen($content);
            while ($at + 5 <= $end) {
                $head = unpack('Ckind/Nlength', substr($content, $at, 5));
                if ($at + 5 + $head['length'] > $end) {
                    break;
                }
                yield [$head['kind'], (string) substr($content, $at + 5, $head['length'])];
                $at += 5 + $head['length'];
            }
            $rest = (string) substr($content, $at);
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

function v_hello($stream, $ask)
{
    if (!empty($ask['gentle']) && function_exists('proc_nice')) {
        @proc_nice(10);
    }
    $algorithms = ['sha256'];
    if (in_array('xxh128', hash_algos())) {
        array_unshift($algorithms, 'xxh128');
    }
    $home = getenv('HOME');
    $stream->say(['form' => 'PHP ' . PHP_VERSION, 'grain' => 1000000000, 'algorithms' => $algorithms,
        'home' => escaped($home === false ? '/' : $home),
        'root' => function_exists('posix_geteuid') && posix_geteuid() === 0,
        'sqlite' => class_exists('SQLite3') ? SQLite3::version()['versionString'] : '',
        'relay' => function_exists('stream_socket_client'),
        'user' => function_exists('posix_geteuid') ? posix_geteuid() : -1,
        'group' => function_exists('posix_getegid') ? posix_getegid() : -1]);
    if (!empty($ask['probe'])) {
        $stream->write(V_DATA, random_bytes($ask['probe']));
    }
}

function v_look($stream, $ask)
{
    $found = [];
    foreach ($ask['paths'] as $path) {
        $found[] = look(path_of($path), !empty($ask['follow']));
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
    foreach (array_map('path_of', $ask['folders']) as $root) {
        $waiting = [$root];
        while ($waiting) {
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
                if ($name === '.' || $name === '..' || isset($skip[$path])) {
                    continue;
                }
                $seen = look($path);
                if ($seen === null) {
                    continue;
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
    }
    if ($found) {
        $stream->data(json_encode($found));
    }
}

function v_names($stream, $ask)
{
    $folder = rtrim(path_of($ask['path']), '/');
    $names = @scandir($folder === '' ? '/' : $folder, SCANDIR_SORT_NONE);
    if ($names === false) {
        throw new Told(said(), $folder, !there($folder));
    }
    $found = [];
    foreach ($names as $name) {
        $seen = $name === '.' || $name === '..' ? null : look("$folder/$name");
        if ($seen !== null) {
            $found[] = [escaped("$folder/$name"), $seen];
        }
    }
    $stream->say(['found' => $found]);
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
    foreach ($ask['items'] as list($text, $start, $size)) {
        $path = path_of($text);
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
            list($text, $mode, $modified, $of) = json_decode($content, true);
            $path = path_of($text);
            $folder = dirname($path);
            if (!isset($made[$folder])) {
                folders($folder);
                $made[$folder] = true;
            }
            if ($of) {
                $base = @fopen(path_of($of), 'rb');
                if (!$base) {
                    throw new Told(said(), path_of($of), !there(path_of($of)));
                }
            }
            $before = umask(0077);
            $file = @fopen($path, 'wb');
            umask($before);
            if (!$file) {
                throw new Told(said(), $path);
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
            chmod($path, $mode);
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
    if (@symlink($target, $path)) {
        return true;
    }
    if (function_exists('exec')) {
        @exec('ln -s -- ' . escapeshellarg($target) . ' ' . escapeshellarg($path) . ' 2>/dev/null');
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
    foreach ($ask['acts'] as list($do, $one, $other, $mode, $soft)) {
        $path = path_of($one);
        $why = one_act($do, $path, path_of($other), $mode, $root);
        if ($why !== null && !$soft) {
            throw new Told($why, $path, !there($path));
        }
        $done += (int) ($why === null);
    }
    $stream->say(['done' => $done]);
}

function v_digest($stream, $ask)
{
    $found = [];
    $piece = empty($ask['piece']) ? 0 : $ask['piece'];
    foreach ($ask['paths'] as $text) {
        $path = path_of($text);
        if (!$piece) {
            $made = is_file($path) ? @hash_file($ask['algorithm'], $path) : false;
            $found[] = $made === false ? null : $made;
        } else {
            $file = @fopen($path, 'rb');
            $list = $file ? [] : null;
            while ($file && ($block = stream_get_contents($file, $piece)) !== '' && $block !== false) {
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
    $path = path_of($ask['path']);
    while (!is_dir($path) && $path !== '/' && $path !== '.') {
        $path = dirname($path);
    }
    $free = @disk_free_space($path);
    $stream->say(['disk' => (string) stat($path)['dev'], 'free' => $free === false ? -1 : (int) $free]);
}

function v_flush($stream, $ask)
{
    if (function_exists('shell_exec')) {
        @shell_exec('sync 2>/dev/null');
    }
    $stream->say([]);
}

function cleared($path)
{
    if (is_dir($path) && !is_link($path)) {
        if (!is_writable($path)) {
            @chmod($path, 0700);
        }
        foreach (scandir($path) as $name) {
            if ($name !== '.' && $name !== '..') {
                cleared("$path/$name");
            }
        }
        $good = @rmdir($path);
    } else {
        $good = @unlink($path);
    }
    if (!$good && there($path)) {
        throw new Told(said(), $path);
    }
}

function v_remove($stream, $ask)
{
    $path = path_of($ask['path']);
    if (there($path)) {
        cleared($path);
    }
    $stream->say([]);
}

function v_real($stream, $ask)
{
    $path = path_of($ask['path']);
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

function connected($where)
{
    $place = !empty($where['socket']) ? 'unix://' . path_of($where['socket'])
        : 'tcp://' . $where['name'] . ':' . $where['port'];
    $found = @stream_socket_client($place, $number, $text, 20);
    if (!$found) {
        throw new Told($text, $place);
    }
    return $found;
}

function v_relay($stream, $ask)
{
    $other = connected($ask);
    $stream->say(['connected' => true]);
    $stream->write(V_END);
    foreach ([$stream->source, $stream->sink, $other] as $one) {
        stream_set_blocking($one, false);
    }
    stream_set_read_buffer($other, 0);
    stream_set_write_buffer($other, 0);
    $up = $down = '';
    $open = true;
    while (true) {
        $reading = $writing = [];
        if ($open && strlen($up) < 1048576) {
            $reading[] = $stream->source;
        }
        if (strlen($down) < 1048576) {
            $reading[] = $other;
        }
        if ($up !== '') {
            $writing[] = $other;
        }
        if ($down !== '') {
            $writing[] = $stream->sink;
        }
        $except = null;
        if (!@stream_select($reading, $writing, $except, 60) && !$open) {
            break;
        }
        foreach ($reading as $one) {
            $block = fread($one, V_BLOCK);
            if ($block === false || $block === '') {
                if (!feof($one)) {
                    continue;
                }
                if ($one === $other) {
                    stream_set_blocking($stream->sink, true);
                    fwrite($stream->sink, $down);
                    exit;
                }
                $open = false;
            } elseif ($one === $other) {
                $down .= $block;
            } else {
                $up .= $block;
            }
        }
        if ($up !== '') {
            $up = (string) substr($up, (int) @fwrite($other, $up));
        }
        if ($down !== '') {
            $down = (string) substr($down, (int) @fwrite($stream->sink, $down));
        }
        if (!$open && $up === '') {
            stream_socket_shutdown($other, STREAM_SHUT_WR);
        }
    }
    exit;
}

function cells($row, $result)
{
    $found = '';
    foreach ($row as $index => $value) {
        $type = $result->columnType($index);
        if ($type === SQLITE3_NULL || $value === null) {
            $found .= 'N' . pack('N', 0);
        } elseif ($type === SQLITE3_FLOAT) {
            $found .= 'F' . pack('NE', 8, $value);
        } else {
            $letter = $type === SQLITE3_INTEGER ? 'I' : ($type === SQLITE3_TEXT ? 'T' : 'B');
            $found .= $letter . pack('N', strlen((string) $value)) . $value;
        }
    }
    return $found;
}

function bound($statement, $content)
{
    $at = 0;
    for ($number = 1; $at < strlen($content); $number++) {
        $letter = $content[$at];
        $length = unpack('N', substr($content, $at + 1, 4))[1];
        $part = (string) substr($content, $at + 5, $length);
        $at += 5 + $length;
        if ($letter === 'N') {
            $statement->bindValue($number, null, SQLITE3_NULL);
        } elseif ($letter === 'I') {
            $statement->bindValue($number, (int) $part, SQLITE3_INTEGER);
        } elseif ($letter === 'F') {
            $statement->bindValue($number, unpack('E', $part)[1], SQLITE3_FLOAT);
        } else {
            $statement->bindValue($number, $part, $letter === 'T' ? SQLITE3_TEXT : SQLITE3_BLOB);
        }
    }
}

/** From now on no statement may open other files or load libraries; PHP before 8 cannot say so. */
function forbid($database)
{
    if (!method_exists($database, 'setAuthorizer')) {
        return;
    }
    $database->setAuthorizer(function ($action, $one = null, $two = null) {
        // VACUUM attaches a file without a name.
        $denied = ($action === 24 && $one) || ($action === 31 && strtolower((string) $two) === 'load_extension');
        return $denied ? SQLite3::DENY : SQLite3::OK;
    });
}

function v_sqlite($stream, $ask)
{
    $path = path_of($ask['path']);
    $flags = ['ro' => SQLITE3_OPEN_READONLY, 'rw' => SQLITE3_OPEN_READWRITE,
        'rwc' => SQLITE3_OPEN_READWRITE | SQLITE3_OPEN_CREATE][$ask['mode']];
    try {
        $database = new SQLite3($path, $flags);
        $database->enableExceptions(true);
        $database->busyTimeout(30000);
        forbid($database);
    } catch (Exception $error) {
        $stream->say(['failed' => $error->getMessage()]);
        return;
    }
    $stream->say(['version' => SQLite3::version()['versionString']]);
    $stream->write(V_END);
    $sql = '';
    $many = [];
    foreach ($stream->records() as list($what, $content)) {
        if ($what === V_BEGIN) {
            $sql = $content;
            $many = [];
        } elseif ($what === V_BYTES) {
            $many[] = $content;
        } elseif ($what === V_DONE) {
            try {
                $statement = $database->prepare($sql);
                $touched = 0;
                $writes = !$statement->readOnly();
                foreach ($many ?: [''] as $values) {
                    $statement->reset();
                    bound($statement, $values);
                    $before = $writes ? $database->querySingle('SELECT total_changes()') : 0;
                    $result = $statement->execute();
                    if ($writes) {
                        $after = $database->querySingle('SELECT total_changes()');
                        $touched += min($after - $before, max(0, $database->changes()));
                    }
                    if (!$writes && $result->numColumns()) {
                        while (($row = $result->fetchArray(SQLITE3_NUM)) !== false) {
                            $stream->record(V_BYTES, cells($row, $result));
                        }
                    }
                    $result->finalize();
                }
                $statement->close();
                $stream->record(V_DONE, (string) $touched);
            } catch (Exception $error) {
                $text = preg_replace('/^Unable to (prepare|execute) statement: (\d+, )?/', '', $error->getMessage());
                $stream->record(V_LOST, $text);
            }
            $stream->emptied();
        }
    }
    $database->close();
}

/** A step of a switch failed. The code is that of the database server, 0 for none of its errors. */
class Failed extends Exception
{
}

/**
 * A switch as one piece: from the moment that it is handed over it ends here, whatever becomes of whoever asked.
 *
 * Until then, bytes go between the other side and a database server, so that the account is logged in
 * without its password being known here. Then comes "go": steps, each with what takes it back.
 */
function v_switch($stream, $ask)
{
    $server = empty($ask['connect']) ? null : connected($ask['connect']);
    $stream->say(['connected' => $server !== null]);
    $record = $go = null;
    try {
        while ($go === null) {
            if ($server) {
                $reading = $stream->ready([$stream->source, $server]);
                if (!$reading) {
                    throw new Ended();
                }
                if (in_array($server, $reading, true)) {
                    $block = fread($server, V_BLOCK);
                    if ($block === false || ($block === '' && feof($server))) {
                        throw new Told('the database server closed the connection', '');
                    }
                    if ($block !== '') {
                        $stream->write(V_DATA, $block);
                    }
                    continue;
                }
            }
            list($kind, $content) = $stream->frame();
            if ($kind === V_DATA) {
                whole($server, $content);
            } elseif ($kind !== V_JSON) {
                return;
            } elseif ($record === null) {
                $record = new Record(json_decode($content, true));
                $stream->say(['ready' => true]);
                // A line that went without a word must not keep everybody else from the target.
                $stream->patience = V_SILENCE;
            } else {
                $asked = json_decode($content, true);
                $stream->drain();
                $go = $asked;
            }
        }
    } finally {
        if ($go === null && $record !== null) {
            $record->remove();
        }
    }
    ignore_user_abort(true);
    if (function_exists('pcntl_signal')) {
        foreach ([SIGHUP, SIGINT, SIGTERM] as $signal) {
            pcntl_signal($signal, SIG_IGN);
        }
    }
    if (function_exists('posix_setsid')) {
        @posix_setsid();
    }
    $piece = new SwitchOver($server, $go);
    $stream->say($piece->run($record));
}

/** What says that a switch is under way; locked for as long as somebody here sees to it. */
class Record
{
    private $path;
    private $file;

    public function __construct($ask)
    {
        $this->path = path_of($ask['path']);
        $beside = path_of($ask['beside']);
        $this->file = is_link($beside) ? false : @fopen($beside, 'w+b');
        if (!$this->file || !flock($this->file, LOCK_EX) || @fwrite($this->file, $ask['text']) !== strlen($ask['text'])
            || !fflush($this->file) || !@rename($beside, $this->path)) {
            $why = said();
            @unlink($beside);
            throw new Told($why, $this->path);
        }
    }

    public function become($text)
    {
        @rename($this->path, path_of($text));
        fclose($this->file);
    }

    public function letGo()
    {
        fclose($this->file);
    }

    public function remove()
    {
        @unlink($this->path);
        fclose($this->file);
    }
}

function whole($socket, $content)
{
    for ($at = 0; $at < strlen($content); $at += $done) {
        $done = @fwrite($socket, $at ? substr($content, $at) : $content);
        if (!$done) {
            throw new Failed('the connection to the database server was lost', 2013);
        }
    }
}

class SwitchOver
{
    private $server;
    private $go;
    private $rest = '';
    private $remarks = [];
    private $patched = 0;
    private $undo = [];
    private $exchanged = false;

    public function __construct($server, $go)
    {
        $this->server = $server;
        $this->go = $go;
    }

    public function run($record)
    {
        try {
            foreach ($this->go['steps'] as $step) {
                $this->{'do_' . $step['do']}($step);
            }
        } catch (Exception $error) {
            $answer = ['failed' => $error->getMessage(), 'code' => (int) $error->getCode()];
            try {
                while ($this->undo) {
                    $back = array_pop($this->undo);
                    $back();
                }
            } catch (Exception $second) {
                $answer['half'] = $second->getMessage();
                $answer['code'] = (int) $second->getCode();
                $record->letGo();
                return $answer;
            }
            $record->become($this->go['undone']);
            return $answer;
        }
        $record->become($this->go['done']);
        return ['remarks' => $this->remarks, 'patched' => $this->patched];
    }

    private function acted($do, $path, $other = '', $mode = 0)
    {
        $why = one_act($do, $path, $other, $mode);
        if ($why !== null) {
            throw new Failed("$path: $why");
        }
    }

    private function do_put($step)
    {
        $beside = path_of($step['beside']);
        $text = str_replace('{now}', (string) time(), $step['text']);
        $this->undo[] = function () use ($step) {
            $this->do_remove($step);
        };
        $this->undo[] = function () use ($step) {
            $this->do_remove(['path' => $step['beside']]);
        };
        if (is_link($beside) || @file_put_contents($beside, $text) !== strlen($text)) {
            throw new Failed("$beside: " . said());
        }
        chmod($beside, 0644);
        $this->acted('replace', $beside, path_of($step['path']));
    }

    private function do_remove($step)
    {
        usleep((int) (1000000 * (isset($step['after']) ? $step['after'] : 0)));
        $path = path_of($step['path']);
        if (there($path)) {
            $this->acted('remove', $path);
        }
    }

    private function do_wait($step)
    {
        usleep((int) (1000000 * $step['seconds']));
    }

    private function do_sync($step)
    {
        if (function_exists('shell_exec')) {
            @shell_exec('sync 2>/dev/null');
        }
    }

    private function do_acts($step)
    {
        $root = path_of(isset($step['root']) ? $step['root'] : '');
        foreach ($step['acts'] as list($do, $one, $to, $mode, $soft)) {
            $path = path_of($one);
            $other = path_of($to);
            $back = $this->inverse($do, $path, $other);
            if ($do === 'folder') { // it can come half of the way
                $this->undo[] = $back;
                $back = null;
            }
            $why = one_act($do, $path, $other, $mode, $root);
            if ($why !== null && !$soft) {
                throw new Failed("$path: $why");
            }
            if ($why === null && $back) {
                $this->undo[] = $back;
            }
        }
    }

    private function inverse($do, $path, $other)
    {
        clearstatcache();
        if ($do === 'rename') {
            return function () use ($path, $other) {
                $this->acted('rename', $other, $path);
            };
        }
        $seen = @lstat($path);
        $mode = $seen ? $seen['mode'] & 07777 : 0755;
        if ($do === 'mode') {
            return function () use ($path, $mode) {
                @chmod($path, $mode);
            };
        }
        if ($do === 'remove-folder') {
            return function () use ($path, $mode) {
                $this->acted('folder', $path);
                @chmod($path, $mode);
            };
        }
        if ($do === 'folder') {
            $made = [];
            while ($path !== '/' && !there($path)) {
                $made[] = $path;
                $path = dirname($path);
            }
            return function () use ($made) {
                foreach ($made as $folder) {
                    if (!@rmdir($folder)) {
                        return;
                    }
                }
            };
        }
        return null;
    }

    private function do_sqlite($step)
    {
        $this->sqlite_at($step['path'], $step['forth']);
        $this->undo[] = function () use ($step) {
            $this->sqlite_at($step['path'], $step['back']);
        };
    }

    private function sqlite_at($path, $statements)
    {
        $database = new SQLite3(path_of($path), SQLITE3_OPEN_READWRITE);
        $database->enableExceptions(true);
        $database->busyTimeout(30000);
        forbid($database);
        try {
            foreach ($statements as $sql) {
                $database->exec($sql);
            }
        } finally {
            $database->close();
        }
    }

    private function do_sql($step)
    {
        $this->undo[] = function () use ($step) {
            $this->statements($step['back']);
        };
        $this->exchanged = !array_filter($step['forth'], function ($item) {
            return !empty($item['exchange']);
        });
        try {
            $this->statements($step['forth']);
        } catch (Failed $error) {
            if (!$this->exchanged && $error->getCode() !== 2013) {
                array_pop($this->undo); // the server refused the exchange, which is all or nothing
            }
            throw $error;
        }
    }

    private function statements($items)
    {
        foreach ($items as $item) {
            if (isset($item['views'])) {
                $this->views($item);
                continue;
            }
            try {
                $touched = $this->query($item['sql']);
            } catch (Failed $error) {
                if (!in_array($error->getCode(), isset($item['soft']) ? $item['soft'] : [], true)) {
                    throw $error;
                }
                if (!empty($item['remark'])) {
                    $this->remarks[] = $this->remark($item['remark'], $error);
                }
                if (!empty($item['stop'])) {
                    return;
                }
                continue;
            }
            if (!empty($item['exchange'])) {
                $this->exchanged = true;
            }
            if (!empty($item['counted'])) {
                $this->patched += $touched;
            }
        }
    }

    private function remark($name, $error)
    {
        return $name . ': ' . $error->getMessage() . ' (error ' . $error->getCode() . ')';
    }

    private function views($item)
    {
        $waiting = $item['views'];
        while ($waiting) {
            $failed = [];
            foreach ($waiting as list($name, $sql)) {
                try {
                    $this->query($sql);
                } catch (Failed $error) {
                    if (!in_array($error->getCode(), $item['soft'], true)) {
                        throw $error;
                    }
                    $failed[] = [$name, $sql, $error];
                }
            }
            if (count($failed) === count($waiting)) {
                foreach ($failed as list($name, , $error)) {
                    $this->remarks[] = $this->remark($name, $error);
                }
                return;
            }
            $waiting = $failed;
        }
    }

    /** A statement without rows, by the protocol's COM_QUERY; how many rows it touched. */
    private function query($sql)
    {
        $body = "\x03" . $sql;
        $number = 0;
        do {
            $part = substr($body, 0, 0xFFFFFF);
            $body = (string) substr($body, 0xFFFFFF);
            whole($this->server, substr(pack('V', strlen($part)), 0, 3) . chr($number) . $part);
            $number = ($number + 1) % 256;
        } while (strlen($part) === 0xFFFFFF);
        $size = unpack('V', substr($this->exactly(4), 0, 3) . "\0")[1];
        $answer = $this->exactly($size);
        if ($answer[0] === "\x00") {
            $first = ord($answer[1]);
            if ($first < 251) {
                return $first;
            }
            $width = [252 => 2, 253 => 3, 254 => 8][$first];
            return unpack('P', str_pad(substr($answer, 2, $width), 8, "\0"))[1];
        }
        if ($answer[0] === "\xff") {
            $text = $answer[3] === '#' ? substr($answer, 9) : substr($answer, 3);
            throw new Failed($text, unpack('v', substr($answer, 1, 2))[1]);
        }
        throw new Failed('the database server answered what nobody asked');
    }

    private function exactly($size)
    {
        while (strlen($this->rest) < $size) {
            $block = fread($this->server, V_BLOCK);
            if ($block === false || ($block === '' && feof($this->server))) {
                throw new Failed('the connection to the database server was lost', 2013);
            }
            $this->rest .= $block;
        }
        $found = (string) substr($this->rest, 0, $size);
        $this->rest = (string) substr($this->rest, $size);
        return $found;
    }
}

/** Whether somebody carries out the switch whose record lies at a path. */
function v_busy($stream, $ask)
{
    $file = @fopen(path_of($ask['path']), 'rb');
    $stream->say(['busy' => $file && !flock($file, LOCK_SH | LOCK_NB)]);
}

function serve($source, $sink)
{
    $stream = new Stream($source, $sink);
    $doings = ['hello', 'look', 'scan', 'names', 'read', 'write', 'act', 'digest', 'room', 'flush', 'remove',
        'real', 'load', 'relay', 'sqlite', 'switch', 'busy'];
    while (true) {
        list($kind, $content) = $stream->frame();
        clearstatcache(true);
        $ask = json_decode($content, true);
        $stream->fresh(!empty($ask['pack']));
        $long = $ask['do'] === 'write';
        if (!$long && $ask['do'] !== 'switch') {
            $stream->drain();
        }
        try {
            if (!in_array($ask['do'], $doings)) {
                throw new Told('unknown request', '');
            }
            ('v_' . $ask['do'])($stream, $ask);
            $stream->write(V_END);
        } catch (Told $error) {
            if ($long) {
                $stream->drain();
            }
            $stream->write(V_ERROR, json_encode(['message' => $error->getMessage(),
                'path' => escaped($error->path), 'missing' => $error->missing]));
        }
    }
}

error_reporting(E_ALL);
ini_set('display_errors', 'stderr');
ini_set('memory_limit', '512M');
set_time_limit(0);
try {
    serve(STDIN, STDOUT);
} catch (Ended $end) {
    exit;
}
