<?php
/* Compares the tables of what is live with those of its rehearsal, by the kinds of data that belong together; and writes
 * the rows of the kinds that what is live keeps into the tables of the rehearsal, which are to be the live ones then.
 *
 *     php merge-tables.php                 tells of each table how many rows, the highest key and the newest date
 *     php merge-tables.php --write         writes the rows, and keeps what was there in a file beside this one
 *     php merge-tables.php --back FILE     puts that back
 *
 * The database of the rehearsal is named by DB_DSN (such as mysql:host=localhost;dbname=pages), DB_USER and DB_PASSWORD
 * in the environment, that of what is live by LIVE_DSN, LIVE_USER and LIVE_PASSWORD where it is another one, or another
 * user's. Nothing of it is written into this file. The tables of what is live are only read.
 */
const PLAN = '{}';
const AT_ONCE = 100;

function opened(string $begin): array
{
    $dsn = getenv("{$begin}_DSN") ?: getenv('DB_DSN');
    if (!$dsn) {
        fwrite(STDERR, "Name the database: DB_DSN, DB_USER and DB_PASSWORD in the environment; LIVE_DSN for that of what is live.\n");
        exit(2);
    }
    $own = getenv("{$begin}_USER") ? $begin : 'DB';
    $base = new PDO($dsn, getenv("{$own}_USER") ?: null, getenv("{$own}_PASSWORD") ?: null, [PDO::ATTR_ERRMODE => PDO::ERRMODE_EXCEPTION]);
    $kind = $base->getAttribute(PDO::ATTR_DRIVER_NAME);
    if ($kind === 'mysql') {
        $base->exec("SET NAMES utf8mb4, time_zone = '+00:00', sql_mode = 'NO_AUTO_VALUE_ON_ZERO', foreign_key_checks = 0");
        $base->setAttribute(PDO::ATTR_STRINGIFY_FETCHES, true);
        $base->setAttribute(PDO::MYSQL_ATTR_USE_BUFFERED_QUERY, false);  // a table may be larger than memory
    }
    return [$base, $kind];
}

function quoted(string $kind, string $name): string
{
    return $kind === 'mysql' ? '`' . str_replace('`', '``', $name) . '`' : '"' . str_replace('"', '""', $name) . '"';
}

/** The tables with a prefix, without those of others with longer ones: their names by those without the prefix. */
function tables_of(PDO $base, string $kind, array $side): array
{
    $asked = [
        'mysql' => 'SELECT table_name FROM information_schema.tables WHERE table_schema = DATABASE() AND table_type = \'BASE TABLE\'',
        'pgsql' => 'SELECT table_name FROM information_schema.tables WHERE table_schema = current_schema() AND table_type = \'BASE TABLE\'',
        'sqlite' => 'SELECT name FROM sqlite_master WHERE type = \'table\' AND name NOT LIKE \'sqlite\\_%\' ESCAPE \'\\\'',
    ];
    $found = [];
    foreach ($base->query($asked[$kind])->fetchAll(PDO::FETCH_COLUMN) as $name) {
        $others = array_filter($side['stays'], fn (string $longer): bool => str_starts_with($name, $longer));
        if (str_starts_with($name, $side['prefix']) && !$others) {
            $found[substr($name, strlen($side['prefix']))] = $name;
        }
    }
    ksort($found);
    return $found;
}

/** The columns of a table that hold something of their own, with the kind of each; and its key, where that is one column. */
function columns_of(PDO $base, string $kind, string $table): array
{
    if ($kind === 'sqlite') {
        $all = $base->query('PRAGMA table_info(' . quoted($kind, $table) . ')')->fetchAll(PDO::FETCH_ASSOC);
        $keys = array_column(array_filter($all, fn (array $one): bool => $one['pk'] > 0), 'name');
        return [array_column($all, 'type', 'name'), $keys];
    }
    $schema = $kind === 'mysql' ? 'DATABASE()' : 'current_schema()';
    $own = $kind === 'mysql' ? "extra NOT LIKE '%GENERATED%'" : "is_generated = 'NEVER'";
    $all = $base->prepare("SELECT column_name, data_type FROM information_schema.columns WHERE table_schema = $schema AND table_name = ? AND $own ORDER BY ordinal_position");
    $all->execute([$table]);
    $columns = $all->fetchAll(PDO::FETCH_KEY_PAIR);
    $keys = $base->prepare('SELECT k.column_name FROM information_schema.table_constraints c JOIN information_schema.key_column_usage k ' .
        'ON k.constraint_name = c.constraint_name AND k.table_schema = c.table_schema AND k.table_name = c.table_name ' .
        "WHERE c.constraint_type = 'PRIMARY KEY' AND c.table_schema = $schema AND c.table_name = ? ORDER BY k.ordinal_position");
    $keys->execute([$table]);
    return [$columns, $keys->fetchAll(PDO::FETCH_COLUMN)];
}

/** How many rows a table has, its highest key where that is a number, and the newest of its dates; null for none. */
function measured(PDO $base, string $kind, string $table): array
{
    [$columns, $keys] = columns_of($base, $kind, $table);
    $name = quoted($kind, $table);
    $is_number = count($keys) === 1 && preg_match('/int|serial|numeric|decimal/i', $columns[$keys[0]] ?? '');
    $asks = ['COUNT(*)', $is_number ? 'MAX(' . quoted($kind, $keys[0]) . ')' : 'NULL'];
    $dates = array_keys(array_filter($columns, fn (string $type): bool => (bool) preg_match('/^(date|timestamp)/i', $type)));
    foreach ($dates as $column) {
        $asks[] = 'MAX(' . quoted($kind, $column) . ')';
    }
    $row = $base->query('SELECT ' . implode(', ', $asks) . " FROM $name")->fetchAll(PDO::FETCH_NUM)[0];
    $newest = array_filter(array_slice($row, 2), fn ($one): bool => $one !== null && !str_starts_with((string) $one, '0000'));
    return [(int) $row[0], $row[1], $newest ? max(array_map('strval', $newest)) : null];
}

/** The kind of data that a table belongs to. */
function kind_of(string $table, array $plan): string
{
    foreach ($plan['kinds'] as $one) {
        if (in_array($table, $one['tables'], true)) {
            return $one['name'];
        }
    }
    return 'other';
}

function is_kept(string $kind, array $plan): bool
{
    return in_array('all', $plan['keeps'], true) || in_array($kind, $plan['keeps'], true);
}

function told(?array $one): string
{
    if ($one === null) {
        return 'not there';
    }
    [$rows, $highest, $newest] = $one;
    return "$rows rows" . ($highest !== null ? ", highest key $highest" : '') . ($newest !== null ? ", newest date $newest" : '');
}

function compare(array $plan): void
{
    [$old, $old_kind] = opened('LIVE');
    [$new, $new_kind] = opened('DB');
    $theirs = tables_of($old, $old_kind, $plan['live']);
    $ours = tables_of($new, $new_kind, $plan['rehearsal']);
    $by_kind = [];
    foreach (array_unique([...array_keys($theirs), ...array_keys($ours)]) as $table) {
        $by_kind[kind_of((string) $table, $plan)][] = (string) $table;
    }
    ksort($by_kind);
    foreach ($by_kind as $kind => $tables) {
        echo "$kind: ", is_kept($kind, $plan) ? 'what is live keeps it, and --write writes it over' : 'the rehearsal has it', "\n";
        sort($tables);
        foreach ($tables as $table) {
            $live = isset($theirs[$table]) ? measured($old, $old_kind, $theirs[$table]) : null;
            $here = isset($ours[$table]) ? measured($new, $new_kind, $ours[$table]) : null;
            echo $live === $here ? '  ' : '* ', "$table\n    live       ", told($live), "\n    rehearsal  ", told($here), "\n";
        }
    }
    echo "* the two differ there: something was written since the copy was made, on one side or on both\n";
    echo "rows that were changed, and neither added nor dated, are not seen by this\n";
    echo $plan['keeps'] ? "nothing was written; --write writes what is live keeps\n" : "nothing is written: what is live keeps none of its data\n";
}

/** A value as it is with the other prefix, where it begins with the one that tables have. */
function with_prefix(?string $value, string $table, string $column, array $plan): ?string
{
    $prefix = $plan['live']['prefix'];
    foreach ($value !== null && $prefix !== '' ? $plan['prefixed'] : [] as [$where, $which, $only]) {
        if ([$where, $which] !== [$table, $column] || !str_starts_with($value, $prefix)) {
            continue;
        }
        $rest = substr($value, strlen($prefix));
        if (!$only || in_array($rest, $only, true)) {
            return $plan['rehearsal']['prefix'] . $rest;
        }
    }
    return $value;
}

function insert(PDO $base, string $kind, string $table, array $columns, array $rows): void
{
    if (!$rows) {
        return;
    }
    $names = implode(', ', array_map(fn (string $one): string => quoted($kind, $one), $columns));
    $places = '(' . implode(', ', array_fill(0, count($columns), '?')) . ')';
    $asked = $base->prepare('INSERT INTO ' . quoted($kind, $table) . " ($names) VALUES " . implode(', ', array_fill(0, count($rows), $places)));
    $asked->execute(array_merge(...$rows));
}

/** The statement that makes a table like one that only what is live has; null where none is known. */
function creating(PDO $base, string $kind, string $table, string $name): ?string
{
    if ($kind === 'mysql') {
        $text = $base->query('SHOW CREATE TABLE ' . quoted($kind, $table))->fetchAll(PDO::FETCH_NUM)[0][1];
        return preg_replace('/^CREATE TABLE `(?:[^`]|``)*`/', 'CREATE TABLE ' . str_replace(['\\', '$'], ['\\\\', '\\$'], quoted($kind, $name)), $text, 1);
    }
    if ($kind === 'sqlite') {
        $text = $base->query('SELECT sql FROM sqlite_master WHERE type = \'table\' AND name = ' . $base->quote($table))->fetchAll(PDO::FETCH_COLUMN)[0];
        return preg_replace('/^CREATE TABLE\s+("(?:[^"]|"")*"|`[^`]*`|\[[^]]*\]|\S+?)(?=\s|\()/i', 'CREATE TABLE ' . str_replace(['\\', '$'], ['\\\\', '\\$'], quoted($kind, $name)), $text, 1);
    }
    return null;
}

function stop(string $why): void
{
    fwrite(STDERR, "$why\n");
    exit(1);
}

function merge(array $plan): void
{
    [$old, $old_kind] = opened('LIVE');
    [$new, $new_kind] = opened('DB');
    if (!$plan['keeps']) {
        stop('nothing is written: what is live keeps none of its data');
    }
    $theirs = array_filter(tables_of($old, $old_kind, $plan['live']), fn ($table): bool => is_kept(kind_of((string) $table, $plan), $plan), ARRAY_FILTER_USE_KEY);
    $ours = tables_of($new, $new_kind, $plan['rehearsal']);
    if (!$theirs) {
        stop('no such table is there; nothing was written');
    }
    $work = [];
    $makes = [];
    foreach ($theirs as $table => $name) {
        [$columns] = columns_of($old, $old_kind, $name);
        $to = $ours[$table] ?? $plan['rehearsal']['prefix'] . $table;
        if (!isset($ours[$table])) {
            $text = $old_kind === $new_kind ? creating($old, $old_kind, $name, $to) : null;
            if ($text === null || preg_match('/\bREFERENCES\b/i', $text)) {  // a key would lead to tables of what is live
                stop("$table is not in the database of the rehearsal, and has to be made there first; nothing was written");
            }
            $makes[] = $text;
        } else {
            [$known] = columns_of($new, $new_kind, $to);
            $missing = array_diff(array_keys($columns), array_keys($known));
            if ($missing) {
                stop("$table of the rehearsal has no column " . implode(', ', $missing) . ', whose values would be lost; nothing was written');
            }
        }
        $work[] = [(string) $table, $name, $to, array_keys($columns)];
    }
    $file = 'merged-' . gmdate('Ymd-His') . '.jsonl';
    $back = fopen(__DIR__ . "/$file", 'x');
    if ($back === false) {
        stop('nothing was written: what is there cannot be kept beside this file');
    }
    chmod(__DIR__ . "/$file", 0600);
    foreach ($makes as $text) {
        $new->exec($text);
    }
    $new->beginTransaction();
    try {
        $total = bring($old, $old_kind, $new, $new_kind, $work, $plan, $back);
    } catch (Throwable $refused) {
        $new->rollBack();  // which tables without transactions (MyISAM) take no part in
        stop($refused->getMessage() . "\nnothing is written for good in tables with transactions; php " . basename(__FILE__) . " --back $file puts back what was there in all");
    }
    $new->commit();
    echo "$total rows written; php " . basename(__FILE__) . " --back $file puts back what was there\n";
}

/** Writes the rows of some tables into those of the rehearsal, once what those hold is kept; gives how many. */
function bring(PDO $old, string $old_kind, PDO $new, string $new_kind, array $work, array $plan, $back): int
{
    $total = 0;
    foreach ($work as [$table, $name, $to, $columns]) {
        [$known] = columns_of($new, $new_kind, $to);
        keep_rows($new, $new_kind, $to, array_keys($known), $back);
        $new->exec('DELETE FROM ' . quoted($new_kind, $to));
        $names = implode(', ', array_map(fn (string $one): string => quoted($old_kind, $one), $columns));
        $rows = $old->query("SELECT $names FROM " . quoted($old_kind, $name));
        $some = [];
        $number = 0;
        while (($row = $rows->fetch(PDO::FETCH_NUM)) !== false) {
            foreach ($row as $n => $value) {
                $row[$n] = is_string($value) ? with_prefix($value, $table, $columns[$n], $plan) : $value;
            }
            $some[] = $row;
            $number++;
            if (count($some) >= AT_ONCE) {
                insert($new, $new_kind, $to, $columns, $some);
                $some = [];
            }
        }
        insert($new, $new_kind, $to, $columns, $some);
        $there = (int) $new->query('SELECT COUNT(*) FROM ' . quoted($new_kind, $to))->fetchAll(PDO::FETCH_COLUMN)[0];
        if ($there !== $number) {
            throw new RuntimeException("$table: $there rows came of $number");
        }
        echo "$table  $number rows\n";
        $total += $number;
    }
    return $total;
}

function put($back, array $row): void
{
    $line = json_encode($row, JSON_THROW_ON_ERROR) . "\n";
    if (fwrite($back, $line) !== strlen($line)) {
        throw new RuntimeException('what was there cannot be kept: the disk is full, perhaps');
    }
}

/** Keeps what a table holds: a line that names it, and one for each row. */
function keep_rows(PDO $base, string $kind, string $table, array $columns, $back): void
{
    put($back, ['table' => base64_encode($table), 'columns' => array_map('base64_encode', $columns)]);
    $names = implode(', ', array_map(fn (string $one): string => quoted($kind, $one), $columns));
    $rows = $base->query("SELECT $names FROM " . quoted($kind, $table));
    while (($row = $rows->fetch(PDO::FETCH_NUM)) !== false) {
        put($back, array_map(fn ($one) => is_string($one) ? base64_encode($one) : ($one === null ? null : [$one]), $row));
    }
    if (!fflush($back)) {
        throw new RuntimeException('what was there cannot be kept: the disk is full, perhaps');
    }
}

function put_back(string $file): void
{
    [$base, $kind] = opened('DB');
    $file = is_file($file) ? $file : __DIR__ . "/$file";
    if (!is_file($file)) {
        stop("$file is not there");
    }
    $base->beginTransaction();
    [$table, $columns, $some, $number] = ['', [], [], 0];
    foreach (new SplFileObject($file) as $line) {
        if (trim((string) $line) === '') {
            continue;
        }
        $row = json_decode((string) $line, true, 8, JSON_THROW_ON_ERROR);
        if (isset($row['table'])) {
            insert($base, $kind, $table, $columns, $some);
            [$table, $columns, $some] = [base64_decode($row['table']), array_map('base64_decode', $row['columns']), []];
            $base->exec('DELETE FROM ' . quoted($kind, $table));
            continue;
        }
        $some[] = array_map(fn ($one) => is_string($one) ? base64_decode($one, true) : ($one === null ? null : $one[0]), $row);
        $number++;
        if (count($some) >= AT_ONCE) {
            insert($base, $kind, $table, $columns, $some);
            $some = [];
        }
    }
    insert($base, $kind, $table, $columns, $some);
    $base->commit();
    echo "$number rows are as they were\n";
}

if (PHP_SAPI === 'cli' && isset($argv) && realpath($argv[0]) === __FILE__) {
    $plan = json_decode(PLAN, true, 16, JSON_THROW_ON_ERROR);
    try {
        if (($argv[1] ?? '') === '--back' && isset($argv[2])) {
            put_back($argv[2]);
        } elseif (($argv[1] ?? '') === '--write') {
            merge($plan);
        } else {
            compare($plan);
        }
    } catch (Throwable $refused) {
        stop($refused->getMessage());  // alone, as a trace may hold a password
    }
}
