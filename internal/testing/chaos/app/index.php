<?php
// An app that never rests, and offers its set-up to anybody who finds it without
// a configuration.
if (!file_exists(__DIR__ . '/config.php')) {
    if ($_SERVER['REQUEST_METHOD'] === 'POST') {
        file_put_contents(__DIR__ . '/config.php', "<?php \$settings = ['title' => 'Taken by a stranger'];\n");
    }
    exit('<h1>Set this site up</h1><form method="post"><input name="title"></form>');
}
require __DIR__ . '/lib/start.php';
$db->query("UPDATE {$settings['tables']}facts SET value = value + 1 WHERE name = 'hits'");
file_put_contents(__DIR__ . '/cache/front.html', 'seen ' . microtime(true));
$n = $db->query("SELECT COUNT(*) FROM {$settings['tables']}entries")->fetch_row()[0];
foreach (glob(__DIR__ . '/plugins/*.php') as $plugin) {
    include $plugin;
}
file_put_contents(__DIR__ . '/log/visits.txt', $_SERVER['REMOTE_ADDR'] . " came\n", FILE_APPEND);
// It remembers where it is, in its database and in a file.
if ($db->query("SELECT 1 FROM {$settings['tables']}facts WHERE name = 'place'")->num_rows === 0) {
    $place = ['home' => $settings['address'], 'folder' => __DIR__, 'data' => $settings['folder'] . '/log.txt'];
    $db->prepare("INSERT IGNORE INTO {$settings['tables']}facts VALUES ('place', ?)")->execute([serialize($place)]);
    file_put_contents($settings['folder'] . '/place.json', json_encode($place));
}
$title = $db->query("SELECT value FROM {$settings['tables']}facts WHERE name = 'title'")->fetch_row()[0];
echo '<h1>', htmlspecialchars($title), '</h1><p>', $n, ' entries, release ', RELEASE, '</p>';
echo '<!-- ', ini_get('memory_limit'), ' -->';
