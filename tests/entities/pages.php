<?php
// The pages of the stand-in, as its front controller would give them: published articles by number and by alias.
$databases = $settings = $config = $conf = [];
require __DIR__ . '/sites/default/settings.php';
$d = $databases['default']['default'];
$place = empty($d['unix_socket']) ? 'host=' . $d['host'] . ';port=' . ($d['port'] ?? 3306) : 'unix_socket=' . $d['unix_socket'];
$db = new PDO("mysql:$place;dbname=" . $d['database'], $d['username'] ?? '', $d['password'] ?? '');
$ask = function (string $sql, array $values = []) use ($db) {
    $rows = $db->prepare($sql);
    $rows->execute($values);
    return $rows->fetchAll(PDO::FETCH_ASSOC);
};
$path = parse_url($_SERVER['REQUEST_URI'], PHP_URL_PATH);
if (preg_match('#^/sites/default/files/[\w.-]+$#', $path) && is_file(__DIR__ . $path)) {
    return false;
}
if ($path === '/') {
    $path = '/node/1';
}
foreach ($ask('SELECT path FROM path_alias WHERE alias = ? AND status = 1', [$path]) as $row) {
    $path = $row['path'];
}
$nid = preg_match('#^/node/(\d+)$#', $path, $m) ? (int) $m[1] : 0;
$found = $ask('SELECT d.title, b.body_value FROM node n JOIN node_field_data d ON d.nid = n.nid AND d.vid = n.vid '
    . 'JOIN node__body b ON b.entity_id = n.nid WHERE n.nid = ? AND d.status = 1', [$nid]);
http_response_code($found ? 200 : 404);
header('Content-Type: text/html; charset=utf-8');
$name = $config['system.site']['name'] ?? 'Kestrel Ridge';
$title = htmlspecialchars($found ? $found[0]['title'] : 'Not found');
echo "<!doctype html><html lang=\"en\"><head><title>$title | $name</title></head><body><h1>$title</h1>";
echo $found ? $found[0]['body_value'] : '';
foreach ($ask('SELECT alias FROM path_alias ORDER BY id LIMIT 8') as $row) {
    echo '<a href="', htmlspecialchars($row['alias']), '">', htmlspecialchars($row['alias']), '</a> ';
}
echo '</body></html>';
