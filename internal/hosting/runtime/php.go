package runtime

import (
	"fmt"
	"strings"
	"time"
)

// PHP runs files that end with .php (PHP manual).
type PHP struct{}

// Name implements Runtime.
func (PHP) Name() string { return "php" }

// Pages implements Runtime.
func (PHP) Pages() []string { return []string{".php"} }

// CodeCache implements Runtime: PHP's code cache looks after files every two seconds, unless set otherwise (PHP
// manual, opcache.revalidate_freq).
func (PHP) CodeCache() time.Duration { return 2100 * time.Millisecond }

// Closed implements Runtime.
func (PHP) Closed(retryAfter int, text string) string {
	return fmt.Sprintf("<?php http_response_code(503); header('Retry-After: %d'); header('Cache-Control: no-store'); ?>\n",
		retryAfter) + text
}

// Moved implements Runtime.
func (PHP) Moved(m Moved) string {
	quote := strings.NewReplacer(`\`, `\\`, `'`, `\'`).Replace
	return "<?php // " + m.Sign + ": the site has moved\n" +
		"$from = '" + quote(m.From) + "';\n$asked = $_SERVER['REQUEST_URI'] ?? $from;\n" +
		"$rest = strncmp($asked, $from, strlen($from)) === 0 ? substr($asked, strlen($from)) : '';\n" +
		fmt.Sprintf("header('Cache-Control: max-age=%d');\n", m.MaxAge) +
		"header('Location: " + quote(m.To) + "' . $rest, true, 301);\n"
}

// Emptier implements Runtime (PHP manual, opcache_reset).
func (PHP) Emptier(sign string) (page, says string) {
	says = "the code cache is empty"
	return "<?php /* " + sign + " */ http_response_code(503); header('Cache-Control: no-store');\n" +
		"$done = !ini_get('opcache.enable') || function_exists('opcache_reset') && @opcache_reset();\n" +
		"if ($done) { echo '" + says + "'; }\n", says
}

// Admit implements Runtime.
func (PHP) Admit(a Admission) string { return fmt.Sprintf(phpAdmission, a.Hash, a.Cookies, a.To) }

const phpAdmission = `<?php
// Tivset lets one browser in, once, within a minute.
header('Cache-Control: no-store');
header('Referrer-Policy: no-referrer');
$half = isset($_POST['half']) && is_string($_POST['half']) ? $_POST['half'] : '';
if ($half === '') {
    exit(is_writable(__DIR__) ? 'ready' : 'not here');
}
if (time() - filemtime(__FILE__) > 60 || !hash_equals('%[1]s', hash('sha256', $half)) || !@unlink(__FILE__)) {
    http_response_code(404);
    exit;
}
$sealed = base64_decode('%[2]s');
for ($i = 0, $pad = ''; strlen($pad) < strlen($sealed); $i++) {
    $pad .= hash('sha256', $half . '/' . $i, true);
}
foreach (json_decode($sealed ^ $pad, true) as $c) {
    $more = ['path' => $c['path'], 'secure' => $c['secure'], 'httponly' => $c['http_only']];
    foreach (['domain', 'samesite'] as $name) {
        if ($c[$name] !== '') {
            $more[$name] = $c[$name];
        }
    }
    setrawcookie($c['name'], $c['value'], $more);
}
$to = htmlspecialchars(base64_decode('%[3]s'));
echo '<!doctype html><meta charset="utf-8"><meta http-equiv="refresh" content="0; url=' . $to . '"><title>One moment</title>',
    '<a href="' . $to . '">Go on</a>';
`
