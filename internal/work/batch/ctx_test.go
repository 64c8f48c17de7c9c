package batch_test

import "context"

var ctx = context.Background()
