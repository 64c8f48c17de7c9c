<?php
// Takes an entry, and says so once it is kept in the database and in a file.
require __DIR__ . '/lib/start.php';
$text = $_POST['text'] ?? '';
$entry = $db->prepare("INSERT INTO {$settings['tables']}entries (body) VALUES (?)");
$entry->bind_param('s', $text);
$entry->execute();
if (file_put_contents(__DIR__ . '/uploads/' . basename($text) . '.txt', $text) === false
    || file_put_contents($settings['folder'] . '/log.txt', $text . "\n", FILE_APPEND) === false) {
    http_response_code(500);
    exit('not kept');
}
echo 'kept ' . htmlspecialchars($text);
