package files_test

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"

	"tivset/internal/hosting/files"
	"tivset/internal/hosting/files/local"
)

// Whatever an account's files are reached over, they are written, moved and listed in the same way; a move
// never replaces anything.
func ExampleFS() {
	top, err := os.MkdirTemp("", "account")
	if err != nil {
		panic(err)
	}
	defer os.RemoveAll(top)
	account, err := local.Open(top)
	if err != nil {
		panic(err)
	}
	defer account.Close()

	ctx := context.Background()
	if _, err := files.MkdirAll(ctx, account, "web/lockside", 0o755); err != nil {
		panic(err)
	}
	for _, name := range []string{"web/lockside/index.page", "web/lockside/old.page"} {
		if err := files.Write(ctx, account, name, []byte("hello"), 0o644); err != nil {
			panic(err)
		}
	}
	err = account.Rename(ctx, "web/lockside/old.page", "web/lockside/index.page")
	fmt.Println("moved onto another:", errors.Is(err, fs.ErrExist))
	all, err := files.Tree(ctx, account, "web", nil)
	for _, found := range all {
		fmt.Println(found.Path, found.Mode)
	}
	fmt.Println(err)
	// Output:
	// moved onto another: true
	// web/lockside drwxr-xr-x
	// web/lockside/index.page -rw-r--r--
	// web/lockside/old.page -rw-r--r--
	// <nil>
}
