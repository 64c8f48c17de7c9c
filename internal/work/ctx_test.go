package work_test

import "context"

var ctx = context.Background()
