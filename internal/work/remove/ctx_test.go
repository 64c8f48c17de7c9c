package remove_test

import "context"

var ctx = context.Background()
