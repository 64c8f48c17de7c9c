package renew_test

import "context"

var ctx = context.Background()
