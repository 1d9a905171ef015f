<?php
// Reads every value of every table and reports those that look serialised but PHP can't read:
// php unserialise.php SOCKET USER PASSWORD DATABASE
[, $socket, $user, $password, $database] = $argv;
class_exists('stdClass');
$db = new mysqli('localhost', $user, $password, $database, 0, $socket);
$read = 0;
$bad = array();
foreach ($db->query('SHOW FULL TABLES WHERE Table_type = "BASE TABLE"')->fetch_all() as [$table]) {
    if (strpos($table, '_vetrin_') === 0) continue;
    foreach ($db->query("SELECT * FROM `$table`")->fetch_all() as $row) {
        foreach ($row as $value) {
            if (is_string($value) && preg_match('/^(a:\d+:\{|O:\d+:"|s:\d+:")/', $value)) {
                $read++;
                if (@unserialize($value) === false) $bad[] = "$table: " . substr($value, 0, 80);
                else array_walk_recursive_strings(@unserialize($value), $read, $bad, $table);
            }
        }
    }
}
function array_walk_recursive_strings($value, &$read, &$bad, $table, $depth = 0) {
    if ($depth > 20) return;
    foreach ((array) $value as $item) {
        if (is_string($item) && preg_match('/^(a:\d+:\{|O:\d+:"|s:\d+:")/', $item)) {
            $read++;
            $inner = @unserialize($item);
            if ($inner === false) $bad[] = "$table: " . substr($item, 0, 80);
            else array_walk_recursive_strings($inner, $read, $bad, $table, $depth + 1);
        } elseif (is_array($item) || is_object($item)) {
            array_walk_recursive_strings($item, $read, $bad, $table, $depth + 1);
        }
    }
}
echo json_encode(array('read' => $read, 'bad' => $bad));
