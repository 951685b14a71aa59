<?php
/* Random values through the program and, beside it, through PHP's own reader of serialised values. */
require $argv[1];
mt_srand((int) $argv[3]);
const OLD = 'a.example/new';
const NEXT = 'b.example';
class Thing { public $one; protected $two; private $three; public function __construct($a, $b, $c) { $this->one = $a; $this->two = $b; $this->three = $c; } }
class Odd implements Serializable { public $x = 1; public function serialize() { return 'see http://a.example/new/x'; } public function unserialize($data) {}
    public function __serialize(): array { return ['at' => 'http://a.example/new/x']; } public function __unserialize(array $data): void { $this->x = $data; } }
enum Suit: string { case One = 'http://a.example/new'; }

function of(array $some) { return $some[mt_rand(0, count($some) - 1)]; }

function leaf(): string
{
    $pieces = ['http://a.example/new', 'https://a.example/new/wp-content/a.png', '//a.example/new?x=1', 'a.example/new', 'a.example/newsletter',
        'http:\/\/a.example\/new\/x', 'https%3A%2F%2Fa.example%2Fnew%2Fx', 'office@a.example', 'http://www.a.example/new', 'xa.example/new', "\xc3\xa9", '"', "';", "\0", 's:3:"abc";',
        'http://a.example/new.', 'http://a.example/new.html', '{"u":"http:\/\/a.example\/new"}', '<a href="http://a.example/new/">', 'plain ', '}', "\n"];
    $text = '';
    for ($n = mt_rand(0, 5); $n > 0; $n--) {
        $text .= of($pieces) . of(['', ' ', ' ']);
    }
    return $text;
}

function value(int $depth)
{
    switch (mt_rand(0, $depth > 4 ? 5 : 10)) {
        case 0: return mt_rand(-9, 99999);
        case 1: return mt_rand(0, 100) / 7;
        case 2: return of([true, false, null]);
        case 3: case 4: case 5: return leaf();
        case 6: return new Thing(value($depth + 1), leaf(), value($depth + 1));
        case 7: return serialize(value($depth + 1));
        case 8: return of([new Odd(), Suit::One]);
        default:
            $found = [];
            for ($n = mt_rand(0, 4); $n > 0; $n--) { $found[of([mt_rand(0, 9), leaf()])] = value($depth + 1); }
            return $found;
    }
}

/** What a text is by PHP's own reader, in a list; nothing where it is not serialised, or not to its end. */
function read(string $text): array
{
    $inner = @unserialize($text);
    return serialize($inner) === $text ? [$inner] : [];
}

/** What becomes of a text: serialised to its end, or broken, or neither. */
function text_wanted(string $text, array $patterns): string
{
    foreach (read($text) as $inner) { return serialize(wanted($inner, $patterns)); }
    return preg_match('/^([aOCE]:\d+:|s:\d+:"|[ibd]:[^;]*;$|N;$)/', $text) || strpos($text, "\0") !== false ? $text : in_text($text, $patterns);
}

/** The same without the program's reader: what PHP reads, replaced leaf by leaf. */
function wanted($value, array $patterns)
{
    if (is_string($value)) { return text_wanted($value, $patterns); }
    if (is_array($value)) {
        $found = [];
        foreach ($value as $key => $one) { $found[is_string($key) ? wanted($key, $patterns) : $key] = wanted($one, $patterns); }
        return $found;
    }
    if ($value instanceof Thing) {
        $read = function (string $name) use ($value) { return (fn () => $this->$name)->call($value); };
        return new Thing(wanted($read('one'), $patterns), wanted($read('two'), $patterns), wanted($read('three'), $patterns));
    }
    if ($value instanceof Odd) {
        $odd = new class { };
        return $value;
    }
    return $value;
}

$patterns = patterns(OLD, NEXT);
$wrong = $changed = $odd = $left = 0;
for ($n = 0; $n < (int) $argv[2]; $n++) {
    $value = value(0);
    $text = is_string($value) && mt_rand(0, 1) ? $value : serialize($value);
    $got = in_value($text, $patterns);
    if (strpos($text, 'O:3:"Odd"') !== false) {  // of an object with a reader of its own: still one that PHP reads
        $odd++;
        if ($got !== null && @unserialize($got) === false && $got !== 'b:0;' && @unserialize($text) !== false) { $wrong++; fwrite(STDERR, "odd: $text\n  $got\n"); }
        continue;
    }
    $want = text_wanted($text, $patterns);
    $changed += $got !== $text;
    if (($got ?? $text) !== $want) { $wrong++; fwrite(STDERR, "value: $text\n  got:  " . var_export($got, true) . "\n  want: $want\n"); }
    $broken = $text;  // one letter more or less, and what was whole is as it was, or nothing at all
    if (strlen($text) > 4 && preg_match('/^[aO]:/', $text)) {
        $at = mt_rand(2, strlen($text) - 1);
        $broken = mt_rand(0, 1) ? substr_replace($text, 'x', $at, 0) : substr_replace($text, '', $at, 1);
        $is_whole = @unserialize($broken) !== false;
        $got = in_value($broken, $patterns);
        if (!$is_whole && $got !== null && $got !== $broken) { $wrong++; fwrite(STDERR, "broken: $broken\n  got: $got\n"); }
        $left += $got === null;
    }
}
echo json_encode(['wrong' => $wrong, 'changed' => $changed, 'odd' => $odd, 'left' => $left]);
