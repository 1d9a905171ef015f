<?php
// Makes random values of all types, and PHP's own answer to the replacement in them.
// php generate.php SEED COUNT  →  a line each: base64(serialised) TAB base64(serialised, replaced)
[, $seed, $count] = $argv;
mt_srand((int) $seed);
const OLD = 'https://www.harrowmere.example';
const NEW_ = 'http://127.0.0.1:8080';
const ROOT = '/srv/www/harrowmere';
const NEW_ROOT = '/home/ed/railway';
enum Signal: string { case Danger = 'https://www.harrowmere.example/danger'; case Clear = 'c'; }
enum Plain { case One; }
class Train {
    public $link; protected $depot; private $driver; public readonly array $stops; public ?Train $next = null;
    function set($a, $b, $c, $d) { $this->link = $a; $this->depot = $b; $this->driver = $c; $this->stops = $d; }
    function map($f) { $n = new self; $n->set($f($this->link), $f($this->depot), $f($this->driver), $f($this->stops)); $n->next = $f($this->next); return $n; }
}
class Packed {
    public $inner;
    function __serialize(): array { return array('url' => $this->inner, 5 => 'x'); }
    function __unserialize(array $d): void { $this->inner = $d['url']; }
}
#[AllowDynamicProperties] class Loose {}
function any($n) { return mt_rand(0, $n - 1); }
function text() {
    $parts = array(OLD, OLD . '/fares?x=1', '//www.harrowmere.example/a', str_replace('/', '\\/', OLD . '/b'),
        urlencode(OLD . '/c'), ROOT . '/uploads', 'desk@harrowmere.example', "\0", "é\u{1F682}", '"', ';', '}', '{',
        's:5:"', "\xff\xfe", "\n", ' plain words ', "\\", 'a:1:', '');
    $s = 'x';
    for ($i = any(5); $i >= 0; $i--) $s .= ' ' . $parts[any(count($parts))];
    return any(6) == 0 ? OLD : $s . ' ';
}
function make($depth) {
    switch (any($depth > 4 ? 8 : 16)) {
        case 0: return null; case 1: return (bool) any(2); case 2: return any(1000) - 500;
        case 3: return array(0.1, -1.5e300, INF, -INF, NAN, 1e-7, -0.0)[any(7)];
        case 4: case 5: case 6: return text();
        case 7: return Signal::cases()[any(2)];
        case 8: case 9: $a = array(); for ($i = any(5); $i > 0; $i--) $a[any(3) ? (any(2) ? "k$i" : $i) : OLD . "/$i"] = make($depth + 1); return $a;
        case 10: $o = new stdClass; $o->u = make($depth + 1); $o->{'a b'} = text(); return $o;
        case 11: $t = new Train; $t->set(text(), make($depth + 1), text(), array(make($depth + 1))); if (any(3) == 0) { $t->next = new Train; $t->next->set(1, 2, text(), array()); } return $t;
        case 12: $p = new Packed; $p->inner = make($depth + 1); return $p;
        case 13: return serialize(make($depth + 1));
        case 14: $l = new Loose; $l->x = text(); $l->list = array(make($depth + 1), Plain::One); return $l;
        case 15: return new ArrayObject(array('u' => make($depth + 1), 3 => text()));
    }
}
function swap(string $s) {
    // Longest first, one pass; text alone, no structures.
    $pairs = array(OLD => NEW_, '//www.harrowmere.example' => '//127.0.0.1:8080', str_replace('/', '\\/', OLD) => str_replace('/', '\\/', NEW_),
        urlencode(OLD) => urlencode(NEW_), ROOT => NEW_ROOT);
    return strtr($s, $pairs);
}
function replaced($v) {
    if (is_string($v)) {
        if (preg_match('/^[aOsCE]:\d+:|^[bid]:|^N;/', $v)) {
            $inner = @unserialize($v);
            if (($inner !== false || $v === 'b:0;') && serialize($inner) === $v) return serialize(replaced($inner));
        }
        return swap($v);
    }
    if (is_array($v)) { $r = array(); foreach ($v as $k => $i) $r[is_string($k) ? swap($k) : $k] = replaced($i); return $r; }
    if ($v instanceof Train) return $v->map('replaced');
    if ($v instanceof Packed) { $p = new Packed; $p->inner = replaced($v->inner); return $p; }
    if ($v instanceof ArrayObject) return new ArrayObject(replaced($v->getArrayCopy()));
    if ($v instanceof UnitEnum) return $v;
    if (is_object($v)) { $r = clone $v; foreach (get_object_vars($v) as $k => $i) $r->$k = replaced($i); return $r; }
    return $v;
}
function linked($text, $object, $rest) {
    return array('a' => &$text, 'b' => &$text, 'o' => $object, 'p' => $object, 'r' => $rest);
}
for ($i = 0; $i < $count; $i++) {
    $v = make(0);
    $original = serialize($v);
    $expected = serialize(replaced($v));
    if (any(5) == 0) {
        $text = text();
        $shared = new stdClass;
        $shared->link = text();
        $original = serialize(linked($text, $shared, $v));
        $expected = serialize(linked(replaced($text), replaced($shared), replaced($v)));
    }
    echo base64_encode($original), "\t", base64_encode($expected), "\n";
}
