package reach_test

import "context"

var ctx = context.Background()
