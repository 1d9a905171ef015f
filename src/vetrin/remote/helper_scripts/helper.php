<?php
// The helper in PHP's form: run from memory by "php -r", with shared.php in front of it; it leaves nothing behind.

/** The path of a request, as it may be used here. */
function place($text, $follow = true)
{
    return path_of($text);
}

/** Have the shell do what PHP cannot; false where it may not. */
function by_shell($command)
{
    if (!function_exists('exec')) {
        return false;
    }
    @exec($command . ' 2>/dev/null', $said, $code);
    return $code === 0;
}

function after_act($do, $path, $other)
{
}

/** Whether a path is none of the site's. */
function is_hidden($path)
{
    return false;
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
                // What PHP asks rows of is carried out twice; a PRAGMA may be, also one that could write.
                $writes = !$statement->readOnly() && stripos(ltrim($sql), 'PRAGMA') !== 0;
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
        by_shell('sync');
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
