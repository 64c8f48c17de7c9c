<?php
// Tivset put this file here for one install. It obeys only requests that are
// signed with that install's key, and goes away by itself.
const KEY = '{key}';
const UNTIL = '{until}' + 0;
const UP = '{up}' + 0;    // how many folders below the account's top this file lies
const STATE = '{state}'; // lists the requests obeyed, so that none is twice

ini_set('display_errors', '0');
@set_time_limit(0);
ignore_user_abort(true);
umask(022);

function nobody() { http_response_code(404); exit; }
function tell(array $answer) {
    rest();
    while (ob_get_level() > 0) { ob_end_clean(); }
    header('Content-Type: application/json');
    exit(json_encode($answer, JSON_INVALID_UTF8_SUBSTITUTE));
}
// work says that this request is at work, for who takes this file away; rest, that
// it has ended. A request whose file is gone does nothing any more.
function work(string $n): void {
    global $at;
    $at = place(STATE) . '.' . $n;
    $file = @fopen($at, 'x');
    if ($file) { fclose($file); } else { $at = ''; }
    register_shutdown_function('rest');
    if (gone()) { rest(); nobody(); }
}
function rest(): void {
    global $at;
    if ($at) { @unlink($at); }
    $at = '';
}
function gone(): bool { clearstatcache(true, __FILE__); return !file_exists(__FILE__); }
function place(string $name): string {
    if ($name === '' || $name[0] === '/' || in_array('..', explode('/', $name), true) || strpos($name, "\0") !== false) {
        throw new Exception("not a place of the account: $name");
    }
    return dirname(__DIR__, UP) . '/' . $name;
}

if (time() > UNTIL) { @unlink(__FILE__); @unlink(place(STATE)); nobody(); }
if (($_SERVER['REQUEST_METHOD'] ?? '') !== 'POST' || !function_exists('openssl_verify')) { nobody(); }
$body = (string) file_get_contents('php://input', false, null, 0, 16 << 20);
$signed = base64_decode($_SERVER['HTTP_X_TIVSET'] ?? '', true);
if (!$signed || openssl_verify($body, $signed, KEY, OPENSSL_ALGO_SHA256) !== 1) { nobody(); }
$r = json_decode($body, true);
if (!is_array($r) || ($r['file'] ?? '') !== basename(__FILE__)) { nobody(); }

work((string) (int) $r['n']);
ob_start();
try {
    $count = @fopen(place(STATE), 'a+');
    if ($count && flock($count, LOCK_EX)) {
        if (in_array((string) $r['n'], explode("\n", (string) stream_get_contents($count)), true)) { nobody(); }
        fwrite($count, $r['n'] . "\n");
        fclose($count); // and so unlocked: requests may come side by side
    } elseif ($r['do'] !== 'look') {
        throw new Exception('the store cannot be written');
    }
    $do = ['look' => 'look', 'end' => 'leave', 'unpack' => 'untar', 'sql' => 'run_sql', 'ask' => 'ask'][$r['do']] ?? null;
    if ($do === null) { throw new Exception('not known: ' . $r['do']); }
    tell(['ok' => true] + $do($r));
} catch (Throwable $e) {
    tell(['ok' => false, 'error' => $e->getMessage(), 'code' => (string) $e->getCode()]);
}

// look tells what this PHP is and what it may do.
function look(array $r): array {
    $mine = place(STATE);
    $free = function_exists('disk_free_space') ? @disk_free_space(__DIR__) : false;
    return [
        'version' => PHP_VERSION, 'extensions' => get_loaded_extensions(),
        'functions' => (object) array_combine($r['functions'], array_map('function_exists', $r['functions'])),
        'settings' => (object) array_combine($r['settings'], array_map(fn($n) => (string) ini_get($n), $r['settings'])),
        'top' => dirname(__DIR__, UP), 'free' => $free === false ? -1 : (int) $free,
        'owner' => is_file($mine) && fileowner(__FILE__) === fileowner($mine), 'unpacks' => function_exists('gzopen'),
    ];
}

// leave takes away what this was and wrote.
function leave(array $r): array {
    foreach ([place(STATE), __FILE__] as $name) { @unlink($name); }
    @rmdir(place($r['parts']));
    clearstatcache();
    return ['gone' => !file_exists(__FILE__) && !file_exists(place(STATE)) && !file_exists(place($r['parts']))];
}

// untar writes the files of a packed tar archive (POSIX.1-1988 ustar, with
// pax's path). It stops after some seconds and tells where to go on.
function entry_name(string $head, string $long): string {
    if ($long !== '') { return $long; }
    $prefix = rtrim(substr($head, 345, 155), "\0");
    return ($prefix === '' ? '' : $prefix . '/') . rtrim(substr($head, 0, 100), "\0");
}
function untar(array $r): array {
    $in = gzopen(place($r['from']), 'rb');
    if (!$in || ($r['at'] > 0 && gzseek($in, $r['at']) !== 0)) { throw new Exception('the archive cannot be read'); }
    $to = place($r['to']);
    $end = microtime(true) + 8;
    $long = '';
    for ($made = 0;; ) {
        if (gone()) { throw new Exception('it was sent away'); }
        if ($long === '' && microtime(true) > $end) { return ['at' => gztell($in), 'made' => $made]; }
        $head = take($in, 512);
        if ($head === '' || trim($head, "\0") === '') {
            @unlink(place($r['from']));
            return ['at' => -1, 'made' => $made];
        }
        $size = octdec(trim(substr($head, 124, 12), " \0"));
        $kind = $head[156];
        if ($kind === 'x') {
            $long = preg_match('/\d+ path=([^\n]*)\n/', take($in, $size), $m) ? $m[1] : '';
            take($in, (512 - $size % 512) % 512);
            continue;
        }
        $name = entry_name($head, $long);
        $long = '';
        place($name); // throws for what leads elsewhere
        $full = $to . '/' . rtrim($name, '/');
        $mode = octdec(trim(substr($head, 100, 8), " \0")) & 0777;
        if ($kind === '5') {
            if (!is_dir($full) && !@mkdir($full, 0755, true) && !is_dir($full)) { throw new Exception("the folder $name cannot be made"); }
        } elseif ($kind === '0' || $kind === "\0") {
            save($in, $full, $name, $size);
            $made++;
        } else {
            throw new Exception("$name is neither a file nor a folder");
        }
        if ($mode !== ($kind === '5' ? 0755 : 0644)) { chmod($full, $mode); } // else the umask made it so
    }
}
function take($in, int $size): string {
    $out = '';
    while ($size > strlen($out)) {
        $piece = gzread($in, $size - strlen($out));
        if ($piece === false || $piece === '') { if ($out === '' && $size === 512) { return ''; } throw new Exception('the archive is cut off'); }
        $out .= $piece;
    }
    return $out;
}
function save($in, string $full, string $name, int $size): void {
    static $there = [];
    $above = dirname($full); // which another part may hold
    if (!isset($there[$above])) {
        if (!is_dir($above)) { @mkdir($above, 0755, true); }
        $there[$above] = true;
    }
    $out = fopen($full, 'xb');
    if (!$out) { throw new Exception("$name cannot be written"); }
    for ($left = $size; $left > 0; ) {
        $piece = take($in, min($left, 65536));
        if (fwrite($out, $piece) !== strlen($piece)) { throw new Exception("$name cannot be written: the disk may be full"); }
        $left -= strlen($piece);
    }
    if (!fclose($out)) { throw new Exception("$name cannot be written: the disk may be full"); }
    if ($size % 512) { take($in, 512 - $size % 512); }
}

// sign_in signs in to a database that is seen from here.
function sign_in(array $r): PDO {
    return new PDO($r['dsn'], $r['user'], $r['password'], [PDO::ATTR_ERRMODE => PDO::ERRMODE_EXCEPTION, PDO::ATTR_TIMEOUT => 15, PDO::ATTR_EMULATE_PREPARES => false]);
}

// run_sql runs statements, and tells which one failed.
function run_sql(array $r): array {
    $db = sign_in($r);
    foreach ($r['before'] as $statement) { $db->exec($statement); }
    foreach ($r['statements'] as $n => $statement) {
        if (gone()) { throw new Exception('it was sent away'); }
        try {
            $db->exec($statement);
        } catch (PDOException $e) {
            return ['failed' => $n, 'error' => $e->getMessage()];
        }
    }
    return ['failed' => -1];
}

// ask runs one statement with values and gives the first column of its rows.
function ask(array $r): array {
    $q = sign_in($r)->prepare($r['query']);
    $q->execute($r['values']);
    return ['rows' => $q->columnCount() > 0 ? array_map(fn($v) => $v === null ? '' : (string) $v, $q->fetchAll(PDO::FETCH_COLUMN)) : []];
}
