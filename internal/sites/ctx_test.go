package sites_test

import "context"

var ctx = context.Background()
