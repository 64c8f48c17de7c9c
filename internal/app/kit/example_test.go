package kit_test

import (
	"fmt"
	"os"

	"tivset/internal/app/kit"
)

// A kit is the description of one app, in a folder with a kit.yaml.
func ExampleRead() {
	k, err := kit.Read(os.DirFS("../../../kits/shaarli"), "shaarli")
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Println(k.Title, "is of the kind", k.Kind)
	fmt.Println("needs a database:", k.Newest().NeedsDatabase())
	// Output:
	// Shaarli is of the kind bookmarks
	// needs a database: false
}
