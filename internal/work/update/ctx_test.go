package update_test

import "context"

var ctx = context.Background()
