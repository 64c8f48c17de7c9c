package demo

import (
	"fmt"
	"strings"
	"time"

	"tivset/internal/hosting/runtime"
)

// Pages is the runtime of the stand-in: templates whose files end with .page.
type Pages struct{}

// Name implements runtime.Runtime.
func (Pages) Name() string { return "pages" }

// Pages implements runtime.Runtime.
func (Pages) Pages() []string { return []string{".page"} }

// CodeCache implements runtime.Runtime.
func (Pages) CodeCache() time.Duration { return 0 }

// Closed implements runtime.Runtime.
func (Pages) Closed(retryAfter int, text string) string {
	return fmt.Sprintf("{{closed %d}}", retryAfter) + text
}

// Guarded implements runtime.Runtime.
func (Pages) Guarded(page string, g runtime.Guard) (string, bool) {
	return fmt.Sprintf("{{/* %s */}}{{guard %q %q %d %q}}", g.Sign, g.Cookie, g.Hash, g.RetryAfter, g.Text) + page,
		strings.Contains(page, "{{")
}

// Moved implements runtime.Runtime.
func (Pages) Moved(m runtime.Moved) string {
	return fmt.Sprintf("{{/* %s */}}{{moved %q %q}}", m.Sign, m.From, m.To)
}

// Emptier implements runtime.Runtime.
func (Pages) Emptier(string) (page, says string) { return "", "" }

// Admit implements runtime.Runtime.
func (Pages) Admit(a runtime.Admission) string {
	return fmt.Sprintf(`{{admit "%s" "%s" "%s"}}`, a.Hash, a.Cookies, a.To)
}
