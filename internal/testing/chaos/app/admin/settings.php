<?php
// Where the owner changes the site's title, and the own name and password.
session_start();
require __DIR__ . '/../lib/start.php';
if (!isset($_SESSION['name'])) {
    http_response_code(403);
    exit('<p>Sign in first.</p>');
}
if ($_SERVER['REQUEST_METHOD'] === 'POST') {
    $set = function (string $query, string ...$values) use ($db) {
        $statement = $db->prepare($query);
        $statement->execute($values);
    };
    $set("UPDATE {$settings['tables']}facts SET value = ? WHERE name = 'title'", $_POST['title']);
    $set("UPDATE {$settings['tables']}writers SET name = ?, hash = ? WHERE name = ?", $_POST['name'],
        password_hash($_POST['password'], PASSWORD_BCRYPT), $_SESSION['name']);
    $_SESSION['name'] = $_POST['name'];
    exit('<p>Saved.</p>');
}
echo '<form method="post"><input name="title"><input name="name"><input name="password" type="password"></form>';
