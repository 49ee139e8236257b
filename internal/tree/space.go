package tree

// A Space is how much room there is, and how much of it is left: in bytes, and in files and folders, of which some file systems hold only
// so many; 0 of those where there is no such limit.
type Space struct{ Left, All, EntriesLeft, Entries uint64 }

// Part is how much of it is left, in whole per cent, rounded down.
func Part(left, all uint64) int {
	if all == 0 {
		return 100
	}
	return int(min(float64(left)/float64(all), 1) * 100)
}
