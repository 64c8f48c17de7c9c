package install_test

import "context"

var ctx = context.Background()
