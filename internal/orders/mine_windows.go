package orders

import "os"

// Mine cannot tell here to whom a file belongs.
func Mine(os.FileInfo) bool { return false }
