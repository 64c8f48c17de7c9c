package check_test

import "context"

var ctx = context.Background()
