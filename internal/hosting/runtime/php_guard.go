package runtime

import (
	"encoding/base64"
	"fmt"
	"strings"
)

// GuardSetting is the setting of PHP by which a program brings a pass: -d tivset.pass=… (PHP manual, get_cfg_var).
const GuardSetting = "tivset.pass"

// phpGuard is one statement, on one line, so that the page's lines keep their numbers. A namespace changes nothing of
// it, and it leaves no variable behind. What the page asks of its own site with PHP's own means brings the pass too.
const phpGuard = `if (!\hash_equals('%[2]s', \hash('sha256', isset($_COOKIE['%[1]s']) && \is_string($_COOKIE['%[1]s']) ` +
	`? $_COOKIE['%[1]s'] : (string) \get_cfg_var('` + GuardSetting + `')))) { ` +
	`if (isset($_SERVER['REQUEST_METHOD'])) { \http_response_code(503); \header('Retry-After: %[3]d'); ` +
	`\header('Cache-Control: no-store'); \header('Content-Type: text/html; charset=utf-8'); ` +
	`echo \base64_decode('%[4]s'); } exit(75); } elseif (isset($_COOKIE['%[1]s'])) { ` +
	`\stream_context_set_default(array('http' => array('header' => 'Cookie: %[1]s=' . $_COOKIE['%[1]s']))); } /* %[5]s */`

// Guarded implements Runtime (PHP manual, hash_equals).
func (PHP) Guarded(page string, g Guard) (string, bool) {
	if !active(page) {
		return "", false
	}
	guard := fmt.Sprintf(phpGuard, g.Cookie, g.Hash, g.RetryAfter, base64.StdEncoding.EncodeToString([]byte(g.Text)),
		strings.ReplaceAll(g.Sign, "*/", ""))
	at, within := begins(page)
	if within {
		return page[:at] + " " + guard + " " + page[at:], true
	}
	return page[:at] + "<?php " + guard + " ?>" + page[at:], true
}
