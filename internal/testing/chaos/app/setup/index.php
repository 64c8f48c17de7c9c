<?php
// The set-up by a page: keeps where it is, in tables and in files, as apps do.
require __DIR__ . '/../lib/start.php';
$home = 'http://' . $_SERVER['HTTP_HOST'] . preg_replace('~setup/.*~', '', $_SERVER['REQUEST_URI']);
$folder = dirname(__DIR__);
$keep = $db->prepare("REPLACE INTO {$settings['tables']}facts VALUES (?, ?)");
foreach (['home' => $home, 'packed' => serialize(['home' => $home, 'folder' => $folder]),
    'json' => json_encode(['home' => $home . 'admin/'])] as $name => $value) {
    $keep->bind_param('ss', $name, $value);
    $keep->execute();
}
file_put_contents($folder . '/cache/paths.php', '<?php return ' . var_export(['home' => $home, 'folder' => $folder], true) . ';');
echo 'set up';
