package rounds_test

import "context"

var ctx = context.Background()
