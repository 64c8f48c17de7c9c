package many_test

import "context"

var ctx = context.Background()
