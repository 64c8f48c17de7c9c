package backup_test

import "context"

var ctx = context.Background()
