// Package steps are the steps by which a site is looked at, one a source, one a part of a source that others take something from, and
// one for each thing that several sources tell together. Each names what it requires, and is given the results of that; which comes
// first follows from it. A file has one step, or those of one source.
//
// It may import everything by which a site is read, and gather.
package steps

import "weltaxis/internal/gather"

// All are all there are, in the order in which what they saw is put together.
var All = []gather.Any{Settings, Recognition, Server, Live, Answers, Runtime, Public, Files, Upkeep, Leaks, Own, Session, Served, Traces, Relied, Backups, Stray, Strange}

// nothing is what a step finds for others which only adds to what was seen.
type nothing = struct{}
