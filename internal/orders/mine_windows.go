package orders

import "os"

// Mine cannot tell here to whom a file belongs.
func Mine(os.FileInfo) bool { return false }

// An ID is nothing here: what a file is cannot be told but by its name.
type ID struct{}

// IDOf is none.
func IDOf(os.FileInfo) ID { return ID{} }
