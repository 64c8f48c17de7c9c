//go:build unix

package e2e

import (
	"strings"

	"tivset/internal/demo"
)

// accountNow lists the files of an account, and the names of its databases,
// which the stand-in keeps as files beside it.
func accountNow(root string) (string, error) {
	var out strings.Builder
	if err := demo.Tree(&out, root); err != nil {
		return "", err
	}
	return out.String(), nil
}
