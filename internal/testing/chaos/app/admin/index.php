<?php
// The admin area: signs in with a cookie that was set before, and a token.
session_start();
require __DIR__ . '/../lib/start.php';
if ($_SERVER['REQUEST_METHOD'] === 'POST') {
    $right = isset($_SESSION['token'], $_POST['token'], $_COOKIE['seen'])
        && hash_equals($_SESSION['token'], $_POST['token']);
    $user = $db->prepare("SELECT hash FROM {$settings['tables']}writers WHERE name = ?");
    $user->bind_param('s', $_POST['name']);
    $user->execute();
    $row = $user->get_result()->fetch_row();
    if ($right && $row && password_verify($_POST['password'], $row[0])) {
        session_regenerate_id(true);
        $_SESSION['name'] = $_POST['name'];
        header('Location: ./');
        exit;
    }
    exit('<p>That is not right.</p>');
}
if (isset($_SESSION['name'])) {
    exit('<p>Hello ' . htmlspecialchars($_SESSION['name']) . '</p><a href="?out">Sign out</a>');
}
setcookie('seen', 'yes', ['path' => '/']);
$_SESSION['token'] = bin2hex(random_bytes(16));
echo '<form method="post"><input name="name"><input name="password" type="password">',
    '<input type="hidden" name="token" value="', $_SESSION['token'], '"></form>';
