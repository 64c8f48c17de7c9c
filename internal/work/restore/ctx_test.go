package restore_test

import "context"

var ctx = context.Background()
