<?php
/* Replaces an address in the tables of a site: in texts, in JSON, and inside serialised values, whose lengths it
 * writes anew without ever unserialising one. A value that is broken, or of which it is not sure, stays as it is.
 *
 *     php replace-addresses.php                 counts what it would change, by table and column
 *     php replace-addresses.php --write         changes it, and writes what was there into a file beside this one
 *     php replace-addresses.php --back FILE     puts that back
 *
 * The database is named by DB_DSN (such as mysql:host=localhost;dbname=pages), DB_USER and DB_PASSWORD in the
 * environment. Nothing of it is written into this file.
 */
const PLAN = '{}';
const DEEPEST = 100;

/** The patterns of the old address, each with what is written in its place: plain, in JSON, and percent-encoded. */
function patterns(string $old, string $new): array
{
    [$old_scheme, $old_rest] = parts($old);
    [$new_scheme, $new_rest] = parts($new);
    $found = [];
    foreach ([['/', ':'], ['\\/', ':'], ['%2F', '%3A']] as [$slash, $colon]) {
        $rest = str_replace('/', $slash, $old_rest);
        $to = str_replace('/', $slash, $new_rest);
        $scheme = $colon === ':' ? 'https?:' : 'https?%3A';
        $end = '(?![A-Za-z0-9_-]|[.][A-Za-z0-9]|%(?!2F|3F|23|22|27|3C|3E|20|26))';
        $is_bare = strpos($old_rest, '/') === false;  // a name alone may stand for mail or for the name itself
        $goes_on = str_starts_with($to, $rest) ? '(?!' . preg_quote(substr($to, strlen($rest)), '~') . ')' : '';
        $begin = preg_quote($slash . $slash, '~');
        $pattern = '~(?<![A-Za-z0-9.@_%-])(' . $scheme . $begin . '|' . $begin . ')' . ($is_bare ? '' : '?') .
            preg_quote($rest, '~') . ($to === $rest ? '' : $goes_on) . $end . '~' . ($slash === '%2F' ? 'i' : '');
        $found[] = [$pattern, $to, $new_scheme === '' ? '' : $new_scheme . $colon . $slash . $slash];
    }
    return $found;
}

function parts(string $address): array
{
    $at = strpos($address, '://');
    return $at === false ? ['', rtrim($address, '/')] : [substr($address, 0, $at), rtrim(substr($address, $at + 3), '/')];
}

/** A text with the new address in the place of each old one. */
function in_text(string $text, array $patterns): string
{
    foreach ($patterns as [$pattern, $to, $scheme]) {
        $replaced = preg_replace_callback($pattern, function (array $at) use ($to, $scheme): string {
            $begin = $at[1] ?? '';
            return ($scheme !== '' && strncasecmp($begin, 'http', 4) === 0 ? $scheme : $begin) . $to;
        }, $text);
        $text = $replaced ?? $text;
    }
    return $text;
}

/** Whether a value is serialised, or was once and is broken. */
function is_like_serialised(string $value): bool
{
    if (preg_match('/^(?:[aOCE]:\d+:|s:\d+:"|[ibd]:[^;]*;$|N;$)/', $value)) {
        return true;
    }
    return preg_match('/^[aO]:?\S{0,12}[:{"]/', $value) && preg_match('/[;{](?:s:\d+:"|i:\d+;|[aO]:\d+:)/', $value);
}

/** A value with the address replaced; null where it is serialised and broken, or holds what cannot be told. */
function in_value(string $value, array $patterns, int $depth = 0): ?string
{
    if (!is_like_serialised($value)) {
        return strpos($value, "\0") === false ? in_text($value, $patterns) : $value;
    }
    $at = 0;
    $written = serialised($value, $at, $patterns, $depth);
    if ($written !== null && $at === strlen($value)) {
        return $written;
    }
    return in_text($value, $patterns) === $value ? $value : null;
}

/** One serialised value from a place on, written anew; null where it is none. */
function serialised(string $value, int &$at, array $patterns, int $depth): ?string
{
    if ($depth > DEEPEST) {
        return null;
    }
    if (preg_match('/\G(?:N;|b:[01];|i:[+-]?\d+;|[rR]:\d+;|d:(?:[+-]?(?:\d+\.?\d*|\.\d+)(?:[eE][+-]?\d+)?|-?INF|NAN);)/', $value, $found, 0, $at)) {
        $at += strlen($found[0]);
        return $found[0];
    }
    if (preg_match('/\Gs:(\d+):"/', $value, $found, 0, $at)) {
        $text = text_of($value, $at, $found);
        if ($text === null) {
            return null;
        }
        $inner = in_value($text, $patterns, $depth + 1) ?? $text;  // what is broken within stays
        return 's:' . strlen($inner) . ':"' . $inner . '";';
    }
    if (preg_match('/\GE:(\d+):"/', $value, $found, 0, $at)) {
        $text = text_of($value, $at, $found);
        return $text === null ? null : "E:{$found[1]}:\"$text\";";
    }
    if (preg_match('/\Ga:(\d+):\{/', $value, $found, 0, $at)) {
        $at += strlen($found[0]);
        return members($value, $at, (int) $found[1], $found[0], $patterns, $depth, true);
    }
    if (preg_match('/\GO:(\d+):"/', $value, $found, 0, $at)) {
        $class = substr($value, $at + strlen($found[0]), (int) $found[1]);
        $next = $at + strlen($found[0]) + (int) $found[1];
        if (strlen($class) === (int) $found[1] && preg_match('/\G":(\d+):\{/', $value, $count, 0, $next)) {
            $head = $found[0] . $class . $count[0];
            $at = $next + strlen($count[0]);
            return members($value, $at, (int) $count[1], $head, $patterns, $depth, false);
        }
    }
    return null;
}

/** The text behind a length, with its place passed; null where it does not end where it says. */
function text_of(string $value, int &$at, array $found): ?string
{
    $begin = $at + strlen($found[0]);
    $length = (int) $found[1];
    if (strlen($found[1]) > 10 || substr($value, $begin + $length, 2) !== '";') {
        return null;
    }
    $at = $begin + $length + 2;
    return substr($value, $begin, $length);
}

/** Keys and values up to the bracket that ends them; names of an object's properties stay. */
function members(string $value, int &$at, int $count, string $head, array $patterns, int $depth, bool $keys): ?string
{
    $written = $head;
    for ($number = 0; $number < 2 * $count; $number++) {
        if ($at >= strlen($value)) {
            return null;
        }
        $is_key = $number % 2 === 0;
        $part = serialised($value, $at, $is_key && !$keys ? [] : $patterns, $depth + 1);
        if ($part === null || ($is_key && !in_array($part[0], ['i', 's'], true))) {
            return null;
        }
        $written .= $part;
    }
    return substr($value, $at++, 1) === '}' ? $written . '}' : null;
}

/** The tables of the site, by its prefix, without those of longer ones that are others'. */
function tables_of(PDO $base, string $kind, array $plan): array
{
    $asked = [
        'mysql' => 'SELECT table_name FROM information_schema.tables WHERE table_schema = DATABASE() AND table_type = \'BASE TABLE\'',
        'pgsql' => 'SELECT table_name FROM information_schema.tables WHERE table_schema = current_schema() AND table_type = \'BASE TABLE\'',
        'sqlite' => 'SELECT name FROM sqlite_master WHERE type = \'table\'',
    ];
    $found = [];
    foreach ($base->query($asked[$kind])->fetchAll(PDO::FETCH_COLUMN) as $name) {
        $others = array_filter($plan['stays'], fn (string $longer): bool => str_starts_with($name, $longer));
        if (str_starts_with($name, $plan['prefix']) && !$others) {
            $found[] = $name;
        }
    }
    sort($found);
    return $found;
}

/** The columns of a table that hold text, and those that tell its rows apart. */
function columns_of(PDO $base, string $kind, string $table): array
{
    if ($kind === 'sqlite') {
        $all = $base->query('PRAGMA table_info(' . quoted($kind, $table) . ')')->fetchAll(PDO::FETCH_ASSOC);
        $texts = array_filter($all, fn (array $one): bool => (bool) preg_match('/CHAR|TEXT|CLOB|^$/i', $one['type']));
        $keys = array_filter($all, fn (array $one): bool => $one['pk'] > 0);
        return [array_column($texts, 'name'), array_column($keys, 'name')];
    }
    $schema = $kind === 'mysql' ? 'DATABASE()' : 'current_schema()';
    $texts = $base->prepare("SELECT column_name FROM information_schema.columns WHERE table_schema = $schema AND table_name = ? AND " .
        "(data_type LIKE '%char%' OR data_type LIKE '%text%' OR data_type LIKE 'json%')");
    $texts->execute([$table]);
    $keys = $base->prepare('SELECT k.column_name FROM information_schema.table_constraints c JOIN information_schema.key_column_usage k ' .
        'ON k.constraint_name = c.constraint_name AND k.table_schema = c.table_schema AND k.table_name = c.table_name ' .
        "WHERE c.constraint_type = 'PRIMARY KEY' AND c.table_schema = $schema AND c.table_name = ? ORDER BY k.ordinal_position");
    $keys->execute([$table]);
    return [$texts->fetchAll(PDO::FETCH_COLUMN), $keys->fetchAll(PDO::FETCH_COLUMN)];
}

function quoted(string $kind, string $name): string
{
    return $kind === 'mysql' ? '`' . str_replace('`', '``', $name) . '`' : '"' . str_replace('"', '""', $name) . '"';
}

/** What holds of rows in which an old host stands, in whatever form; all others are left alone unread. */
function may_hold(string $kind, array $texts, array $plan): array
{
    $like = [];
    $asked = [];
    foreach ($plan['addresses'] as [$old]) {
        foreach ($texts as $column) {
            $name = quoted($kind, $column);
            $like[] = ($kind === 'pgsql' ? "CAST($name AS text)" : $name) . ' LIKE ?';
            $asked[] = '%' . explode('/', parts($old)[1])[0] . '%';
        }
    }
    return ['(' . implode(' OR ', $like) . ')', $asked];
}

function updating(PDO $base, string $kind, string $table, string $column, array $keys): PDOStatement
{
    $where = implode(' AND ', array_map(fn (string $key): string => quoted($kind, $key) . ' = ?', $keys));
    return $base->prepare('UPDATE ' . quoted($kind, $table) . ' SET ' . quoted($kind, $column) . " = ? WHERE $where");
}

/** Goes through a table; gives how many values of each column change, and how many stay as they are broken. */
function through(PDO $base, string $kind, string $table, array $plan, array $patterns, $back, bool $writes): array
{
    [$texts, $keys] = columns_of($base, $kind, $table);
    $kept = array_map(fn (string $one): string => $plan['prefix'] . $one, $plan['keeps']);
    $texts = array_values(array_filter($texts, fn (string $one): bool => !in_array("$table.$one", $kept, true)));
    if (!$texts) {
        return [];
    }
    if (!$keys) {
        return ['(no primary key)' => [0, -1]];
    }
    $names = implode(', ', array_map(fn (string $one): string => quoted($kind, $one), [...$keys, ...$texts]));
    [$may, $asked] = may_hold($kind, $texts, $plan);
    $rows = $base->prepare("SELECT $names FROM " . quoted($kind, $table) . " WHERE $may");
    $rows->execute($asked);
    $rows = $rows->fetchAll(PDO::FETCH_NUM);
    $counts = [];
    foreach ($rows as $row) {
        $own = array_slice($row, 0, count($keys));
        foreach ($texts as $number => $column) {
            $was = $row[count($keys) + $number];
            $now = is_string($was) ? in_value($was, $patterns) : $was;
            $counts[$column] ??= [0, 0];
            if ($now === null && $was !== null) {
                $counts[$column][1]++;
            } elseif ($now !== $was && !in_array($column, $keys, true)) {
                $counts[$column][0]++;
                if ($writes) {
                    fwrite($back, json_encode([$table, $column, $keys, $own, base64_encode($was)]) . "\n");
                    updating($base, $kind, $table, $column, $keys)->execute([$now, ...$own]);
                }
            }
        }
    }
    return array_filter($counts, fn (array $one): bool => $one[0] || $one[1]);
}

function opened(): array
{
    $dsn = getenv('DB_DSN');
    if (!$dsn) {
        fwrite(STDERR, "Name the database: DB_DSN, DB_USER and DB_PASSWORD in the environment.\n");
        exit(2);
    }
    $base = new PDO($dsn, getenv('DB_USER') ?: null, getenv('DB_PASSWORD') ?: null, [PDO::ATTR_ERRMODE => PDO::ERRMODE_EXCEPTION]);
    $kind = $base->getAttribute(PDO::ATTR_DRIVER_NAME);
    if ($kind === 'mysql') {
        $base->exec('SET NAMES utf8mb4');
    }
    return [$base, $kind];
}

function put_back(string $file): void
{
    [$base, $kind] = opened();
    $file = is_file($file) ? $file : __DIR__ . "/$file";
    if (!is_file($file)) {
        fwrite(STDERR, "$file is not there\n");
        exit(1);
    }
    $base->beginTransaction();
    $number = 0;
    foreach (array_reverse(file($file, FILE_IGNORE_NEW_LINES | FILE_SKIP_EMPTY_LINES)) as $line) {
        [$table, $column, $keys, $own, $was] = json_decode($line, true, 8, JSON_THROW_ON_ERROR);
        updating($base, $kind, $table, $column, $keys)->execute([base64_decode($was, true), ...$own]);
        $number++;
    }
    $base->commit();
    echo "$number values are as they were\n";
}

function replace_all(array $plan, bool $writes): void
{
    [$base, $kind] = opened();
    $patterns = [];
    foreach ($plan['addresses'] as [$old, $new]) {
        $patterns = [...$patterns, ...patterns($old, $new)];
    }
    $name = 'replaced-' . gmdate('Ymd-His') . '.jsonl';
    $back = $writes ? fopen(__DIR__ . "/$name", 'x') : null;
    if ($back === false) {
        throw new RuntimeException('nothing was changed: what is there cannot be kept beside this file');
    }
    if ($writes) {
        chmod(__DIR__ . "/$name", 0600);
        $base->beginTransaction();
    }
    $total = 0;
    foreach (tables_of($base, $kind, $plan) as $table) {
        foreach (through($base, $kind, $table, $plan, $patterns, $back, $writes) as $column => [$changed, $broken]) {
            $total += $changed;
            $left = $broken > 0 ? ", $broken left as they are, as they are broken" : ($broken < 0 ? 'left as it is' : '');
            echo "$table.$column  ", $changed ? ($writes ? "$changed changed" : "$changed to change") : '', $left, "\n";
        }
    }
    if ($writes) {
        fflush($back);
        $base->commit();
    }
    echo $writes ? "$total values changed; php " . basename(__FILE__) . " --back $name puts them back\n" : "$total values to change; --write changes them\n";
}

if (PHP_SAPI === 'cli' && isset($argv) && realpath($argv[0]) === __FILE__) {
    try {
        if (($argv[1] ?? '') === '--back' && isset($argv[2])) {
            put_back($argv[2]);
        } else {
            replace_all(json_decode(PLAN, true, 16, JSON_THROW_ON_ERROR), ($argv[1] ?? '') === '--write');
        }
    } catch (Throwable $refused) {
        fwrite(STDERR, $refused->getMessage() . "\n");  // alone, as a trace may hold a password
        exit(1);
    }
}
