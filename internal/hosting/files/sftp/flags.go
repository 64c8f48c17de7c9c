package sftp

import "os"

// openNew makes a file that is not there.
const openNew = os.O_WRONLY | os.O_CREATE | os.O_EXCL
