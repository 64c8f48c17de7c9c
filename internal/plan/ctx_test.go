package plan_test

import "context"

var ctx = context.Background()
