// Package progress lets whatever takes long say how far it is, to whoever wants to know. It shows nothing itself, and
// imports nothing of this program.
package progress

import "context"

// A Note is how far something is.
type Note struct {
	Doing string // what is being done: "looking at pages"
	Done  int    // how much of it is done
	Of    int    // of how much; 0 when that is not known
}

type key struct{}

// To returns a context whose notes go to the function, which is called from several goroutines and returns at once.
func To(ctx context.Context, tell func(Note)) context.Context {
	return context.WithValue(ctx, key{}, tell)
}

// Tell says how far something is.
func Tell(ctx context.Context, doing string, done, of int) {
	if tell, is := ctx.Value(key{}).(func(Note)); is {
		tell(Note{doing, done, of})
	}
}
